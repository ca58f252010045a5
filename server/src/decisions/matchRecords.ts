import type { DataSource } from 'typeorm';
import type { MatchRecords, NamedRecord } from '@anchor-knot/contracts';
import {
  expectedFields,
  type FieldId,
  keyOf,
  type Raw,
  type Reading,
  recordId,
  recordKey,
  type RecordName,
  ruleSays,
  type Shared,
} from '@anchor-knot/core';
import type { LoadedKnot } from '../knots/knots.js';
import { type TieRow, tieFromRow } from '../persistence/rows.js';

interface KnownRecord extends NamedRecord {
  readonly fields: Readonly<Record<FieldId, Raw>>;
}

/** What is known of records, tied or outside: in the order asked for, and with what they are called. */
export async function knownRecords(
  data: DataSource,
  { id, compiled }: LoadedKnot,
  refs: readonly RecordName[],
): Promise<KnownRecord[]> {
  const columns = [refs.map(({ member }) => member), refs.map(({ key }) => key)];
  const ties = (await data.query(
    `select t.*, a.title from tie t join anchor a on a.id = t.anchor_id
     where t.knot_id = $1 and (t.member, t.record_key) in (select * from unnest($2::text[], $3::text[]))`,
    [id, ...columns],
  )) as (TieRow & { title: string })[];
  const outside = (await data.query(
    `select member, record_key, reading from outside_record where knot_id = $1 and (member, record_key) in (select *
      from unnest($2::text[], $3::text[]))`,
    [id, ...columns],
  )) as { member: string; record_key: string; reading: Reading }[];
  const tied = new Map(ties.map((row) => [recordId({ member: row.member, key: recordKey(row.record_key) }), row]));
  const waiting = new Map(
    outside.map((row) => [recordId({ member: row.member, key: recordKey(row.record_key) }), row.reading]),
  );
  return refs.map(({ member, key }) => {
    const tie = tied.get(recordId({ member, key }));
    const fields = tie ? expectedFields(tieFromRow(tie)) : (waiting.get(recordId({ member, key }))?.fields ?? {});
    const called = compiled.comparableValues(member, fields, new Set([compiled.titleField])).get(compiled.titleField);
    return {
      member,
      key,
      anchor: tie?.anchor_id ?? null,
      title: typeof called === 'string' && called !== '' ? called : (tie?.title ?? key),
      fields,
    };
  });
}

const none: ReadonlyMap<FieldId, Shared> = new Map();

interface MatchDetail {
  readonly candidates?: readonly { readonly anchor: string | null; readonly records: readonly RecordName[] }[];
  readonly keys?: readonly string[];
  readonly tiedKey?: string | null;
}

/**
 * The records that a decision on a match is about: what is asked about, then the candidates, or the rest of the anchor.
 */
export async function matchRecords(
  data: DataSource,
  knot: LoadedKnot,
  decision: {
    readonly member: string;
    readonly record_key: string | null;
    readonly anchor_id: string | null;
    readonly detail: MatchDetail;
  },
): Promise<MatchRecords> {
  const { member, detail } = decision;
  const own = (detail.keys ?? (decision.record_key === null ? [] : [decision.record_key])).map((key): RecordName => ({
    member,
    key: recordKey(key),
  }));
  const candidates =
    detail.candidates ?? (decision.anchor_id === null ? [] : [{ anchor: decision.anchor_id, records: [] }]);
  const ties = (await data.query(
    'select anchor_id, member, record_key from tie where anchor_id = any($1::uuid[]) and not gone order by member',
    [candidates.flatMap(({ anchor }) => anchor ?? [])],
  )) as { anchor_id: string; member: string; record_key: string }[];
  const others = candidates.flatMap(({ anchor, records }, candidate) => {
    const now = ties
      .filter(({ anchor_id }) => anchor_id === anchor)
      .map((row): RecordName => ({ member: row.member, key: recordKey(row.record_key) }));
    return (anchor === null ? records : now).map((record) => ({ record, candidate }));
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
