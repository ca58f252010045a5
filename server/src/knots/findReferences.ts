import type { KnotDefinition } from '@anchor-knot/contracts';
import { type FieldValues, type FoundValues, type ReferenceBy, referenceKey, referenceWays } from '@anchor-knot/core';
import { knownIn } from '../orchestration/bindReferences.js';
import { referenceSource } from '../persistence/referenceSource.js';
import type { SqlConnection } from '../persistence/sql.js';

/**
 * How many of the values of some fields are keys of records, or values, of things of knots in force: a few questions
 * for each knot, however many fields there are.
 * @param definition the knot that is made: its own things, and those of the same objects, are not referred to by value
 */
export async function foundValues(
  db: SqlConnection,
  definition: KnotDefinition,
  knots: readonly KnotDefinition[],
  fields: readonly FieldValues[],
  systemName: (id: string) => string,
): Promise<readonly FoundValues[]> {
  if (fields.length === 0) return [];
  const found: FoundValues[] = [];
  const all = new Set(fields.flatMap(({ values }) => values));
  for (const knot of knots) {
    const ways = referenceWays(knot).filter((by) => !isOfSameThings(definition, knot, by));
    const { names } = await knownIn(referenceSource(db), knot.id, {
      keys: new Map(ways.flatMap((by) => ('member' in by ? [[by.member, all]] : []))),
      values: new Map(ways.flatMap((by) => ('field' in by ? [[by.field, all]] : []))),
      things: new Set(),
      ways: [],
    });
    const known = new Set(names.map(({ by, value }) => `${referenceKey(knot.id, by)} ${value}`));
    for (const field of fields)
      for (const by of ways) {
        const count = field.values.filter((value) => known.has(`${referenceKey(knot.id, by)} ${value}`)).length;
        if (count > 0)
          found.push({
            ...field,
            target: { id: knot.id, thing: knot.thing },
            by,
            words: wayWords(knot, by, systemName),
            found: count,
          });
      }
  }
  return found;
}

/** Records of the same object have the same emails: that two of them do is no reference. */
function isOfSameThings({ id, members }: KnotDefinition, knot: KnotDefinition, by: ReferenceBy): boolean {
  if ('member' in by) return false;
  const isShared = ({ system, object }: KnotDefinition['members'][number]): boolean =>
    knot.members.some((other) => other.system === system && other.object === object);
  return knot.id === id || members.some(isShared);
}

/** A way to refer to the things of a knot, in words. */
export function wayWords(
  { name, fields, members }: KnotDefinition,
  by: ReferenceBy,
  systemName: (id: string) => string,
): string {
  if ('field' in by) return `values of ${fields.find(({ id }) => id === by.field)?.name ?? by.field} in ${name}`;
  const system = members.find(({ id }) => id === by.member)?.system ?? by.member;
  return `keys of ${name} in ${systemName(system)}`;
}
