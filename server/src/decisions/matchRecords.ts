import type { MatchRecords, NamedRecord } from '@anchor-knot/contracts';
import {
  anchorId,
  expectedFields,
  type FieldId,
  keyOf,
  type Raw,
  recordId,
  recordKey,
  type RecordName,
  ruleSays,
  type Shared,
} from '@anchor-knot/core';
import type { LoadedKnot } from '../knots/knots.js';
import type { SqlConnection } from '../persistence/sql.js';
import { recordsOf, tiesOfRecords } from '../persistence/tables/ties.js';
import type { DecisionRowOf } from '../persistence/tables/decisions.js';
import { outsideReadings } from '../persistence/tables/outsideRecords.js';

interface KnownRecord extends NamedRecord {
  readonly fields: Readonly<Record<FieldId, Raw>>;
}

/** What is known of records, tied or outside: in the order asked for, and with what they are called. */
export async function knownRecords(
  data: SqlConnection,
  { id, compiled }: LoadedKnot,
  refs: readonly RecordName[],
): Promise<KnownRecord[]> {
  const ties = await tiesOfRecords(data, id, refs);
  const waiting = await outsideReadings(data, id, refs);
  return refs.map(({ member, key }) => {
    const tied = ties.get(recordId({ member, key }));
    const fields = tied ? expectedFields(tied.tie) : (waiting.get(recordId({ member, key }))?.fields ?? {});
    return {
      member,
      key,
      anchor: tied?.anchor ?? null,
      title: titleOfRecord(compiled, member, fields, tied?.title ?? key),
      fields,
    };
  });
}

/**
 * What a record is called: by the field that names an anchor; where it has none, by the first text that it holds, which
 * is mostly a name too.
 */
function titleOfRecord(
  compiled: LoadedKnot['compiled'],
  member: string,
  fields: Readonly<Record<FieldId, Raw>>,
  otherwise: string,
): string {
  const values = compiled.comparableValues(member, fields);
  const isName = (value: Shared | undefined): value is string => typeof value === 'string' && value !== '';
  const called = values.get(compiled.titleField);
  return isName(called) ? called : ([...values.values()].find(isName) ?? otherwise);
}

const none: ReadonlyMap<FieldId, Shared> = new Map();

/**
 * The records that a decision on a match is about: what is asked about, then the candidates, or the rest of the anchor.
 */
export async function matchRecords(
  data: SqlConnection,
  knot: LoadedKnot,
  decision: DecisionRowOf<'duplicate' | 'unsure match'>,
): Promise<MatchRecords> {
  const member = decision.member as string;
  const keys = decision.kind === 'duplicate' ? decision.detail.keys : [decision.record_key as string];
  const own = keys.map((key): RecordName => ({ member, key: recordKey(key) }));
  const candidates = candidatesOf(decision);
  const anchors = candidates.flatMap(({ anchor }) => (anchor === null ? [] : [anchorId(anchor)]));
  const ties = await recordsOf(data, knot.id, anchors);
  const others = candidates.flatMap(({ anchor, records }, candidate) => {
    const now: readonly RecordName[] = anchor === null ? [] : (ties.get(anchorId(anchor)) ?? []);
    const known = records.map(({ member: of, key }): RecordName => ({ member: of, key: recordKey(key) }));
    return (anchor === null ? known : now).map((record) => ({ record, candidate }));
  });
  const known = await knownRecords(data, knot, [...own, ...others.map(({ record }) => record)]);
  const values = known.map(({ member: of, fields }) => knot.compiled.comparableValues(of, fields));
  const places = known.map((_, place) => (place < own.length ? null : (others[place - own.length]?.candidate ?? null)));
  return {
    records: known.map(({ fields: _, ...record }, place) => ({ ...record, candidate: places[place] ?? null })),
    fields: knot.compiled.fields
      .map(({ id, name }) => ({
        id,
        name,
        values: values.map((of) => (of.get(id) ?? null) as Exclude<Shared, undefined> as never),
      }))
      .filter((field) => field.values.some((value) => value !== null)),
    rules: knot.compiled.keyRules.map((rule) => ({
      name: rule.name,
      says: ruleSays(keyOf(rule, values[0] ?? none), keyOf(rule, values[1] ?? none)),
    })),
  };
}

/** Of duplicates the anchor that one of them is tied to. */
function candidatesOf(
  decision: DecisionRowOf<'duplicate' | 'unsure match'>,
): readonly { readonly anchor: string | null; readonly records: readonly { member: string; key: string }[] }[] {
  if (decision.kind === 'unsure match') return decision.detail.candidates;
  return decision.anchor_id === null ? [] : [{ anchor: decision.anchor_id, records: [] }];
}
