import type { KnotDefinition } from '@anchor-knot/contracts';
import type { Check, Crosswalk, Edit } from './edit';

/** What a knot is, apart from its parts. */
export type KnotSettings = Pick<
  KnotDefinition,
  'name' | 'thing' | 'description' | 'owner' | 'labels' | 'titleField' | 'start'
>;

/** What is empty is left out. */
export function setKnot(change: Partial<KnotSettings>): Edit {
  return (definition) => {
    const changed = { ...definition, ...change };
    const isEmpty = (value: unknown): boolean => value === '' || (Array.isArray(value) && value.length === 0);
    const optional = ['description', 'owner', 'labels'];
    return Object.fromEntries(
      Object.entries(changed).filter(([name, value]) => !optional.includes(name) || !isEmpty(value)),
    ) as KnotDefinition;
  };
}

/** The same knot over other objects: what is said of its members stays, and so do the fields that are mapped. */
export function withObjects(
  definition: KnotDefinition,
  objects: Readonly<Record<string, { readonly system: string; readonly object: string }>>,
): KnotDefinition {
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
export function usersOf({ fields }: KnotDefinition, table: string): string[] {
  return fields
    .filter(({ mappings }) =>
      Object.values(mappings).some(({ steps }) =>
        steps.some((step) => step.kind === 'crosswalk' && step.table === table),
      ),
    )
    .map(({ name }) => name);
}
