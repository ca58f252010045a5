import type { KnotDefinition } from '@anchor-knot/contracts';
import {
  anchorId,
  keyOf,
  type MemberId,
  type Newcomer,
  type Raw,
  rawFieldsOf,
  readableFields,
  readComparable,
  readPath,
  recordId,
  recordKey,
  RecordMatching,
} from '@anchor-knot/core';
import type { SqlConnection } from '../persistence/sql.js';
import { tieHeads } from '../persistence/tables/anchors.js';

type Row = Readonly<Record<string, Raw>>;

export interface SampledMember {
  readonly id: MemberId;
  /** The field that holds the key of its records. */
  readonly key: string;
  readonly rows: readonly Row[];
}

/** Records of several members that are one thing, by member. */
export type SampledThing = Readonly<Record<MemberId, Row>>;

/** Things as they are tied, of the records that were read; none where nothing is tied yet. */
export async function tiedTogether(
  db: SqlConnection,
  knot: string,
  members: readonly SampledMember[],
): Promise<readonly SampledThing[]> {
  const things = new Map<string, Record<MemberId, Row>>();
  for (const { id, key, rows } of members) {
    const byKey = new Map(rows.map((row) => [recordKey(String(readPath(row, key) ?? '')), row]));
    for (const [found, { anchor, gone }] of await tieHeads(db, knot, id, [...byKey.keys()])) {
      if (gone) continue;
      things.set(anchor, { ...things.get(anchor), [id]: byKey.get(found) as Row });
    }
  }
  return [...things.values()].filter((thing) => Object.keys(thing).length > 1);
}

/** Things as the definition's own key rules would put the records together that were read. */
export function ruledTogether(definition: KnotDefinition, members: readonly SampledMember[]): readonly SampledThing[] {
  const rules = definition.keyRules.filter(({ fields }) => fields.length > 0);
  const only = new Set(rules.flatMap(({ fields }) => fields.map(({ field }) => field)));
  const rowOf = new Map<string, Row>();
  const newcomers = members.flatMap(({ id, key, rows }) => {
    const mapped = readableFields(definition, id);
    return rows.map((row): Newcomer => {
      const newcomer = { member: id, key: recordKey(String(readPath(row, key) ?? '')) };
      rowOf.set(recordId(newcomer), row);
      const { values } = readComparable(mapped, rawFieldsOf(mapped, { key: newcomer.key, fields: row }), only);
      return { ...newcomer, keys: rules.map((rule) => keyOf(rule, values)), canStart: true };
    });
  });
  let next = 0;
  const matching = new RecordMatching(
    rules.map(({ name }) => name),
    newcomers,
    { withKey: () => [], tiedKey: () => undefined, anchorOf: () => undefined },
    () => anchorId(String((next += 1))),
  ).applyKeys();
  return [...matching.together().values()]
    .filter((records) => records.length > 1)
    .map((records) => Object.fromEntries(records.map((record) => [record.member, rowOf.get(recordId(record)) as Row])));
}
