import type { Check, Knot } from '../definition/index.js';
import type { Crosswalk } from '../mapping/index.js';
import type { Edit } from './edit.js';

/** What a knot is, apart from its parts. */
export type KnotSettings = Pick<Knot, 'name' | 'thing' | 'description' | 'owner' | 'labels' | 'titleField' | 'start'>;

/** What is empty is left out. */
export function setKnot(change: Partial<KnotSettings>): Edit {
  return (definition) => {
    const { description, owner, labels, ...rest } = { ...definition, ...change };
    return {
      ...rest,
      ...(description ? { description } : {}),
      ...(owner ? { owner } : {}),
      ...(labels && labels.length > 0 ? { labels } : {}),
    };
  };
}

/** The same knot over other objects: what is said of its members stays, and so do the fields that are mapped. */
export function withObjects(
  definition: Knot,
  objects: Readonly<Record<string, { readonly system: string; readonly object: string }>>,
): Knot {
  return { ...definition, members: definition.members.map((member) => ({ ...member, ...objects[member.id] })) };
}

export function setChecks(checks: readonly Check[]): Edit {
  return (definition) => ({ ...definition, checks: [...checks] });
}

export function setCrosswalk(id: string, crosswalk: Crosswalk | undefined): Edit {
  return (definition) => ({
    ...definition,
    crosswalks: crosswalk
      ? { ...definition.crosswalks, [id]: crosswalk }
      : Object.fromEntries(Object.entries(definition.crosswalks).filter(([table]) => table !== id)),
  });
}

/** The names of the shared fields that a crosswalk translates. */
export function usersOf({ fields }: Knot, table: string): string[] {
  return fields
    .filter(({ mappings }) =>
      Object.values(mappings).some(({ steps }) =>
        steps.some((step) => step.kind === 'crosswalk' && step.table === table),
      ),
    )
    .map(({ name }) => name);
}
