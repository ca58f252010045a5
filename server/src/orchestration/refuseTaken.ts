import type { MemberId, RecordKey } from '@anchor-knot/core';
import type { Installation } from './installation.js';
import type { WriteEnd } from './writeOperations.js';

/**
 * A system may answer a creation with a record that it has already (it finds one by an email, or remembers an older
 * call). Where that record is tied to another thing, or was given for another creation of the same batch, it is not
 * this thing's: the creation counts as refused, and a person hears of it.
 */
export async function refuseTaken(
  { store, systemName }: Pick<Installation, 'store' | 'systemName'>,
  knot: string,
  ends: readonly WriteEnd[],
): Promise<readonly WriteEnd[]> {
  const createdIn = new Map<MemberId, RecordKey[]>();
  for (const { intent, state, key } of ends) {
    const { kind, member } = intent.operation;
    if (kind !== 'create' || state !== 'written' || key === undefined) continue;
    const created = createdIn.get(member) ?? [];
    created.push(key);
    createdIn.set(member, created);
  }
  const owners = new Map<MemberId, Map<RecordKey, string>>();
  for (const [member, keys] of createdIn) {
    const heads = await store.tieHeads(knot, member, keys);
    owners.set(member, new Map([...heads].map(([key, { anchor }]) => [key, anchor])));
  }
  return ends.map((end): WriteEnd => {
    const { intent, state, key } = end;
    const { kind, anchor, member } = intent.operation;
    const ownersThere = owners.get(member);
    if (kind !== 'create' || state !== 'written' || key === undefined || !ownersThere) return end;
    const owner = ownersThere.get(key);
    ownersThere.set(key, owner ?? anchor);
    if (owner === undefined || owner === anchor) return end;
    const words = `${systemName(member)} answered with its record ${key}, which is another thing’s`;
    return { intent, state: 'refused', words, result: { kind: 'refused', words } };
  });
}
