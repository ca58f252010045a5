import { type MemberId, type Reading, recordId, type RecordKey, recordKey } from '@anchor-knot/core';
import type { RunLease } from '../../orchestration/lease.js';
import type { FilteredRecord, OutsideOutcome, OutsideRecord, RecordRef } from '../../orchestration/stored.js';
import { emptyAccount, type MemberAccount } from '../../orchestration/runResult.js';
import type { SqlConnection } from '../sql.js';
import { fromJsonColumn, jsonColumn } from './jsonColumn.js';
import { beginToRest, dropOutside, dropTied } from './restingRecords.js';

/** The records of a knot's members that belong to no anchor, and those that take no part. */

const longestTitle = 200;

interface OutsideRow {
  readonly member: string;
  readonly record_key: string;
  readonly reading: OutsideRecord['reading'];
  readonly reason: OutsideRecord['reason'];
  readonly verdict: OutsideRecord['verdict'] | null;
}

/** @param restingUnder a version; those that rest under it, and those that are set aside, are left out */
export async function outsideRecords(
  db: SqlConnection,
  knot: string,
  restingUnder?: number,
): Promise<readonly OutsideRecord[]> {
  // Those that are about to rest have a version below 0. In three parts, each of which an index finds.
  const rows = (await db.query(
    `select member, record_key, reading, reason, verdict from outside_record
     where knot_id = $1 and (rests_under is null or rests_under < $2 or rests_under > $2)
       and ($3 or verdict is null)`,
    [knot, restingUnder ?? 0, restingUnder === undefined],
  )) as OutsideRow[];
  return rows.map(({ member, record_key, reading, reason, verdict }) => ({
    member,
    key: recordKey(record_key),
    reading,
    reason,
    ...(verdict ? { verdict } : {}),
  }));
}

/**
 * Those that were known and do not stay have left; the others are kept as they were read. What a person has put outside
 * or set aside meanwhile is left so, and has what this run read of it.
 */
export async function keepOutsideRecords(
  db: SqlConnection,
  { knot, run }: RunLease,
  { known, staying, version }: OutsideOutcome,
): Promise<void> {
  const stays = new Set(staying.map(({ member, key }) => JSON.stringify([member, key])));
  const left = known.filter(({ member, key }) => !stays.has(JSON.stringify([member, key])));
  if (left.length > 0) await dropOutside(db, knot, left);
  // The untied ones were kept when they were matched.
  const kept = staying.filter(({ reason, verdict }) => reason !== 'untied' || verdict);
  if (kept.length > 0)
    await db.query(
      `insert into outside_record (knot_id, member, record_key, reason, reading, verdict)
       select $1, member, record_key, reason, reading::jsonb, verdict
       from unnest($2::text[], $3::text[], $4::text[], ${fromJsonColumn('$5')}, $6::text[])
         as r(member, record_key, reason, reading, verdict)
       on conflict (knot_id, member, record_key) do update set reason = excluded.reason, reading = excluded.reading,
         rests_under = null
       where (outside_record.reason, outside_record.reading) is distinct from (excluded.reason, excluded.reading)`,
      [
        knot,
        kept.map(({ member }) => member),
        kept.map(({ key }) => key),
        kept.map(({ reason }) => reason),
        jsonColumn(kept.map(({ reading }) => reading)),
        kept.map(({ verdict }) => verdict ?? null),
      ],
    );
  await db.query(
    `update outside_record o set reading = s.reading::jsonb, rests_under = null from staged_record s
     where s.run_id = $2 and s.anchor_id is not null and o.knot_id = $1 and o.member = s.member
       and o.record_key = s.record_key`,
    [knot, run],
  );
  await beginToRest(db, knot, version, kept);
  // A record that was tied while the run went is outside no longer.
  await dropTied(db, knot, kept);
}

export async function noteFiltered(
  db: SqlConnection,
  { knot }: RunLease,
  member: MemberId,
  records: readonly FilteredRecord[],
): Promise<void> {
  await db.query(
    `insert into filtered_record (knot_id, member, record_key, title)
     select $1, $2, * from unnest($3::text[], $4::text[]) on conflict do nothing`,
    [knot, member, records.map(({ key }) => key), records.map(({ title }) => title.slice(0, longestTitle))],
  );
}

export async function forgetFiltered(
  db: SqlConnection,
  { knot }: RunLease,
  member: MemberId,
  keys: readonly RecordKey[],
): Promise<void> {
  await db.query('delete from filtered_record where knot_id = $1 and member = $2 and record_key = any($3::text[])', [
    knot,
    member,
    keys,
  ]);
}

/** How many records of each member are in which list. */
export async function accounts(db: SqlConnection, knot: string): Promise<ReadonlyMap<MemberId, MemberAccount>> {
  const rows = (await db.query(
    `select member, list, sum(difference)::int as count from record_count where knot_id = $1 group by 1, 2
       having sum(difference) <> 0`,
    [knot],
  )) as { member: string; list: keyof MemberAccount; count: number }[];
  const counted = new Map<MemberId, MemberAccount>();
  for (const { member, list, count } of rows)
    counted.set(member, { ...(counted.get(member) ?? emptyAccount), [list]: count });
  return counted;
}

/** A record that a person took from its anchor: the next run looks where it belongs. */
export async function putOutside(
  db: SqlConnection,
  knot: string,
  { member, key, reading }: RecordRef & { readonly reading: Reading },
): Promise<void> {
  await db.query(
    `insert into outside_record (knot_id, member, record_key, reading, reason) values ($1, $2, $3, $4, 'untied')
     on conflict (knot_id, member, record_key) do update set reading = excluded.reading, verdict = null,
       rests_under = null`,
    [knot, member, key, JSON.stringify(reading)],
  );
}

/** A record that a person ties to an anchor is in no other list from then on. */
export async function takeFromLists(db: SqlConnection, knot: string, { member, key }: RecordRef): Promise<void> {
  await dropOutside(db, knot, [{ member, key }]);
  await db.query('delete from filtered_record where knot_id = $1 and member = $2 and record_key = $3', [
    knot,
    member,
    key,
  ]);
}

/** What was last read of a record outside of anchors. */
export async function outsideReading(
  db: SqlConnection,
  knot: string,
  { member, key }: RecordRef,
): Promise<Reading | undefined> {
  const [row] = (await db.query(
    'select reading from outside_record where knot_id = $1 and member = $2 and record_key = $3',
    [knot, member, key],
  )) as { reading: Reading }[];
  return row?.reading;
}

/** What was last read of some records, where they are outside of anchors, by their names. */
export async function outsideReadings(
  db: SqlConnection,
  knot: string,
  records: readonly RecordRef[],
): Promise<ReadonlyMap<string, Reading>> {
  const rows = (await db.query(
    `select member, record_key, reading from outside_record
     where knot_id = $1 and (member, record_key) in (select * from unnest($2::text[], $3::text[]))`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
  )) as { member: string; record_key: string; reading: Reading }[];
  return new Map(
    rows.map(({ member, record_key, reading }) => [recordId({ member, key: recordKey(record_key) }), reading]),
  );
}

/** What is known by now of records that are outside of anchors; those that are not are passed over. */
export async function renewReadings(
  db: SqlConnection,
  knot: string,
  records: readonly (RecordRef & { readonly reading: Reading })[],
): Promise<void> {
  if (records.length === 0) return;
  await db.query(
    `update outside_record o set reading = r.reading::jsonb, rests_under = null
     from unnest($2::text[], $3::text[], ${fromJsonColumn('$4')}) as r(member, record_key, reading)
     where o.knot_id = $1 and o.member = r.member and o.record_key = r.record_key`,
    [
      knot,
      records.map(({ member }) => member),
      records.map(({ key }) => key),
      jsonColumn(records.map(({ reading }) => reading)),
    ],
  );
}
