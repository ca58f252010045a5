import type { Member } from '../definition/index.js';

/**
 * An object as it joins a knot: it may do what its system can, removals aside, which are always a person's choice. One
 * that can only be read can only give: its records may start new things.
 * @param rights what can be done with records of the object there
 */
export function newMember(system: string, object: string, rights: readonly string[]) {
  const create = rights.includes('create');
  const update = rights.includes('update');
  return {
    system,
    object,
    may: { create, update, archive: false, delete: false },
    startsAnchors: create || !update,
    required: [],
    guards: {},
  } satisfies Omit<Member, 'id'>;
}
