import { type Decision, decisionKinds, decisionSchema } from '@anchor-knot/contracts';
import { isBlank, type Knot, recordId, recordKey, type RecordName } from '@anchor-knot/core';
import type { LoadedKnot } from '../knots/knots.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import type { SqlConnection } from '../persistence/sql.js';
import { type DecisionViewRow, refusedAlike } from '../persistence/tables/decisionLists.js';
import { decisionsWithThings } from '../views/things.js';
import { knownRecords } from './matchRecords.js';

const mostNamed = 3;

/**
 * Decisions of one knot as people see them: each names what it is about. However many there are, the records that they
 * name are looked up together.
 */
export async function decisionViews(
  data: SqlConnection,
  knot: LoadedKnot,
  rows: readonly DecisionViewRow[],
  systems: readonly Pick<SystemRow, 'id' | 'name'>[],
): Promise<readonly Decision[]> {
  const alike = await refusedAlike(data, knot.id, rows);
  const named = rows.map((row) => recordsNamed(row));
  const records = named.flat();
  const known = await knownRecords(data, knot, records);
  const byName = new Map(known.map((record) => [recordId({ ...record, key: recordKey(record.key) }), record]));
  const views = rows.map((row, place) => {
    const found = (named[place] ?? []).flatMap((name) => byName.get(recordId(name)) ?? []);
    const fill = ({ fields }: (typeof known)[number]): number =>
      Object.values(fields).filter((raw) => !isBlank(raw)).length;
    const [fullest] = found.toSorted((a, b) => fill(b) - fill(a));
    return viewOf(row, knot.definition, {
      subject:
        subjectOfSource(row, knot.definition, systems) ??
        subjectOf(
          row,
          found.map(({ title }) => title),
        ),
      fullest: row.kind === 'duplicate' ? (fullest?.key ?? null) : null,
      alike: alike.get(row.id) ?? 0,
    });
  });
  const systemName = (member: string | null): string => {
    const found = knot.definition.members.find(({ id }) => id === member);
    return systems.find(({ id }) => id === found?.system)?.name ?? member ?? '';
  };
  return decisionsWithThings(data, knot.definition, views, systemName);
}

/** Decisions of knots that are not in force any more: by what they say themselves. */
export function viewWithoutKnot(row: DecisionViewRow): Decision {
  return viewOf(row, undefined, { subject: subjectOf(row, []), fullest: null, alike: 0 });
}

function viewOf(
  row: DecisionViewRow,
  definition: Knot | undefined,
  more: Pick<Decision, 'subject' | 'fullest' | 'alike'>,
): Decision {
  const field = definition?.fields.find(({ id }) => id === row.field);
  return decisionSchema.parse({
    ...row,
    ...more,
    knot: row.knot_id,
    knotName: definition?.name ?? row.knot_id,
    anchor: row.anchor_id,
    key: row.record_key,
    fieldName: field?.name ?? null,
    openedAt: row.opened_at.toISOString(),
    writes: Object.entries(field?.mappings ?? {}).flatMap(([member, { direction }]) =>
      direction === 'from' ? [] : [member],
    ),
    putOffUntil: row.put_off_until?.toISOString() ?? null,
    givenTo: row.given_to === null ? null : { email: row.given_to, name: row.given_name ?? row.given_to },
    note: row.given_note,
  });
}

interface MatchDetail {
  readonly keys?: readonly string[];
  readonly tiedKey?: string | null;
  readonly candidates?: readonly { readonly records: readonly { member: string; key: string }[] }[];
}

/** The records that a decision names: those of duplicates, or the one that is asked about and what it may be. */
function recordsNamed({ kind, member, record_key, detail }: DecisionViewRow): readonly RecordName[] {
  if (member === null) return [];
  const { keys = [], tiedKey, candidates = [] } = detail as MatchDetail;
  if (kind === 'duplicate')
    return [...(tiedKey ? [tiedKey] : []), ...keys].map((key) => ({ member, key: recordKey(key) }));
  const own = record_key === null ? [] : [{ member, key: recordKey(record_key) }];
  const others = kind === 'unsure match' ? candidates.flatMap(({ records }) => records.slice(0, 1)) : [];
  return [...own, ...others.map((record) => ({ member: record.member, key: recordKey(record.key) }))];
}

/** Of what is about no record: the system, and the object or the file. */
function subjectOfSource(
  { kind, member, record_key }: DecisionViewRow,
  { members }: Knot,
  systems: readonly Pick<SystemRow, 'id' | 'name'>[],
): string | undefined {
  if (!['source', 'run'].includes(decisionKinds[kind].about)) return undefined;
  const found = members.find(({ id }) => id === member);
  const system = systems.find(({ id }) => id === found?.system)?.name ?? member ?? 'The run';
  if (kind === 'fields changed') return `${found?.object} in ${system}`;
  return kind === 'unusable' && record_key !== null ? `${record_key} in ${system}` : system;
}

function subjectOf({ kind, title, record_key }: DecisionViewRow, titles: readonly string[]): string {
  const names = [...new Set(titles.filter((name) => name !== ''))];
  const shown =
    names.length > mostNamed ? [...names.slice(0, mostNamed - 1), `${names.length - mostNamed + 1} more`] : names;
  if (kind === 'unsure match' && shown.length > 1) return `${shown.join(' or ')}?`;
  if (kind === 'duplicate' && shown.length > 0) return shown.join(' and ');
  if (title !== null && title !== '') return title;
  return shown[0] ?? (record_key === null ? 'The run' : `Record ${record_key}`);
}
