import { type AnchorId, type MemberId, type Reading, recordId, type RecordKey, recordKey } from '@anchor-knot/core';
import type { RunLease } from '../../orchestration/lease.js';
import type { Likeness, OutsideRecord, RecordRef, RestingRecord } from '../../orchestration/store.js';
import type { SqlConnection } from '../sql.js';
import { tiedAmong } from './anchors.js';
import { blockNumber } from './evidenceIndex.js';
import { hashKey } from './hashKey.js';
import { fromJsonColumn, jsonColumn } from './jsonColumn.js';

/**
 * Records outside of anchors that nothing is like: they take part in a run only when something changes that they might
 * be tied to.
 */

/** By what those that rest are found. */
const marks = ['outside_key', 'outside_block'] as const;

interface RestingRow {
  readonly member: string;
  readonly record_key: string;
  readonly reading: Reading;
}

const fromRow = ({ member, record_key, reading }: RestingRow): OutsideRecord => ({
  member,
  key: recordKey(record_key),
  reading,
  reason: 'untied',
});

export async function resting(data: SqlConnection, knot: string, version: number) {
  const rows = (await data.query(
    'select member, count(*)::int as count from outside_record where knot_id = $1 and rests_under = $2 group by member',
    [knot, version],
  )) as { member: MemberId; count: number }[];
  const [known] = (await data.query('select acts::int as acts from knot where id = $1', [knot])) as { acts: number }[];
  return { counts: new Map(rows.map(({ member, count }) => [member, count])), acts: known?.acts ?? 0 };
}

export async function restingAmong(
  data: SqlConnection,
  knot: string,
  records: readonly RecordRef[],
): Promise<readonly OutsideRecord[]> {
  const rows = (await data.query(
    `select member, record_key, reading from outside_record join unnest($2::text[], $3::text[]) as r(member, record_key)
       using (member, record_key) where knot_id = $1 and rests_under is not null`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
  )) as RestingRow[];
  return rows.map(fromRow);
}

export async function restingKeys(
  data: SqlConnection,
  knot: string,
  member: MemberId,
  after: RecordKey | undefined,
  limit: number,
): Promise<readonly RecordKey[]> {
  const rows = (await data.query(
    `select record_key from outside_record where knot_id = $1 and member = $2 and record_key > $3
       and rests_under is not null order by record_key limit $4`,
    [knot, member, after ?? '', limit],
  )) as { record_key: string }[];
  return rows.map(({ record_key }) => recordKey(record_key));
}

/** By their keys, their blocks (of which those with too many records say nothing), and what people said of them. */
export async function restingLike(
  data: SqlConnection,
  knot: string,
  { keys, blocks, records }: Likeness,
): Promise<readonly OutsideRecord[]> {
  const number = blockNumber(knot);
  const wanted = new Map(blocks.map(({ block, limit }) => [number(block), Math.trunc(limit)]));
  const rows = (await data.query(
    `with near as (
       select o.member, o.record_key from unnest($2::smallint[], $3::text[]) as k(rule, key_hash)
         join outside_key o on o.knot_id = $1 and o.rule = k.rule and o.key_hash = k.key_hash
       union
       select f.member, f.record_key from unnest($4::bigint[], $5::int[]) as w(block, most) cross join lateral (
         select o.member, o.record_key, count(*) over () as alike from (
           select member, record_key from outside_block b where b.block = w.block and b.knot_id = $1 limit w.most + 1) o
         ) f where f.alike <= w.most
       union
       select v.member_b, v.key_b from unnest($6::text[], $7::text[]) as r(member, record_key)
         join verdict v on v.knot_id = $1 and v.member_a = r.member and v.key_a = r.record_key
       union
       select v.member_a, v.key_a from unnest($6::text[], $7::text[]) as r(member, record_key)
         join verdict v on v.knot_id = $1 and v.member_b = r.member and v.key_b = r.record_key)
     select member, record_key, reading from near join outside_record using (member, record_key)
     where knot_id = $1 and rests_under is not null order by member, record_key`,
    [
      knot,
      keys.map(([rule]) => rule),
      keys.map(([, key]) => hashKey(key)),
      [...wanted.keys()],
      [...wanted.values()],
      records.map(({ member }) => member),
      records.map(({ key }) => key),
    ],
  )) as RestingRow[];
  return rows.map(fromRow);
}

/** Keeps untied records; they rest where nobody has acted since they were matched. One that was tied is left out. */
export async function letRest(
  db: SqlConnection,
  { knot }: RunLease,
  version: number,
  acts: number,
  records: readonly RestingRecord[],
): Promise<void> {
  // Who acts counts first, then changes, then wakes: either we see the count, or are woken by the change.
  const [known] = (await db.query('select acts::int as acts from knot where id = $1 for share', [knot])) as {
    acts: number;
  }[];
  const rests = known?.acts === acts;
  const kept = (await db.query(
    `insert into outside_record as o (knot_id, member, record_key, reason, reading, rests_under)
     select $1, r.member, r.record_key, 'untied', r.reading::jsonb, $5
     from unnest($2::text[], $3::text[], ${fromJsonColumn('$4')}) as r(member, record_key, reading)
     on conflict (knot_id, member, record_key) do update set reason = excluded.reason, reading = excluded.reading,
       rests_under = excluded.rests_under where o.verdict is null
     returning member, record_key, xmax <> 0 as was_there`,
    [
      knot,
      records.map(({ member }) => member),
      records.map(({ key }) => key),
      jsonColumn(records.map(({ reading }) => reading)),
      rests ? version : null,
    ],
  )) as { member: string; record_key: string; was_there: boolean }[];
  const nameOf = (row: (typeof kept)[number]): RecordRef => ({ member: row.member, key: recordKey(row.record_key) });
  await deleteFrom(db, marks, knot, kept.filter(({ was_there }) => was_there).map(nameOf));
  const names = new Set(rests ? kept.map((row) => recordId(nameOf(row))) : []);
  const resting = records.filter((record) => names.has(recordId(record)));
  const keys = resting.flatMap(({ member, key: name, keys: own }) =>
    own.map(([rule, key]) => ({ member, name, rule, hash: hashKey(key) })),
  );
  await db.query(
    `insert into outside_key (knot_id, rule, key_hash, member, record_key)
     select $1, * from unnest($2::smallint[], $3::text[], $4::text[], $5::text[]) on conflict do nothing`,
    [
      knot,
      keys.map(({ rule }) => rule),
      keys.map(({ hash }) => hash),
      keys.map(({ member }) => member),
      keys.map(({ name }) => name),
    ],
  );
  const number = blockNumber(knot);
  const blocks = resting.flatMap(({ member, key, blocks: own }) =>
    own.map((block) => ({ member, key, block: number(block) })),
  );
  if (blocks.length > 0)
    await db.query(
      `insert into outside_block (block, knot_id, member, record_key)
       select block, $1, member, record_key from unnest($2::bigint[], $3::text[], $4::text[])
         as r(block, member, record_key) on conflict do nothing`,
      [knot, blocks.map(({ block }) => block), blocks.map(({ member }) => member), blocks.map(({ key }) => key)],
    );
  await dropTied(db, knot, records);
}

/** Records that are outside of anchors no longer. */
export async function dropOutside(db: SqlConnection, knot: string, records: readonly RecordRef[]): Promise<void> {
  await deleteFrom(db, ['outside_record', ...marks], knot, records);
}

/** A record that was tied meanwhile is in no list beside. */
export async function dropTied(db: SqlConnection, knot: string, records: readonly RecordRef[]): Promise<void> {
  const tied = await tiedAmong(db, knot, records);
  await dropOutside(
    db,
    knot,
    records.filter((record) => tied.has(recordId(record))),
  );
}

async function deleteFrom(
  db: SqlConnection,
  tables: readonly string[],
  knot: string,
  records: readonly RecordRef[],
): Promise<void> {
  if (records.length === 0) return;
  for (const table of tables)
    await db.query(
      `delete from ${table} o using unnest($2::text[], $3::text[]) as r(member, record_key)
       where o.knot_id = $1 and o.member = r.member and o.record_key = r.record_key`,
      [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
    );
}

export async function wake(db: SqlConnection, knot: string, records: readonly RecordRef[]): Promise<void> {
  if (records.length === 0) return;
  await db.query(
    `update outside_record o set rests_under = null from unnest($2::text[], $3::text[]) as r(member, record_key)
     where o.knot_id = $1 and o.member = r.member and o.record_key = r.record_key and o.rests_under is not null`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
  );
}

/**
 * Wakes what shares something with anchors that were just stored. Most knots have nothing that rests, and are asked
 * nothing more.
 */
export async function wakeLikeAnchors(db: SqlConnection, knot: string, anchors: readonly AnchorId[]): Promise<void> {
  const [{ some }] = (await db.query(
    'select exists (select from outside_record where knot_id = $1 and rests_under is not null) as some',
    [knot],
  )) as [{ some: boolean }];
  if (!some) return;
  await db.query(
    `with tied as (select member, record_key from tie where anchor_id = any($2::uuid[])),
     near as (
       select o.member, o.record_key from match_key m join outside_key o using (knot_id, rule, key_hash)
         where m.anchor_id = any($2::uuid[])
       union
       select o.member, o.record_key from evidence_record e join evidence_block b on b.record_id = e.id
         join outside_block o on o.block = b.block and o.knot_id = $1 where e.anchor_id = any($2::uuid[])
       union
       select v.member_b, v.key_b from tied t
         join verdict v on v.knot_id = $1 and v.member_a = t.member and v.key_a = t.record_key
       union
       select v.member_a, v.key_a from tied t
         join verdict v on v.knot_id = $1 and v.member_b = t.member and v.key_b = t.record_key)
     update outside_record r set rests_under = null from near
     where r.knot_id = $1 and r.member = near.member and r.record_key = near.record_key and r.rests_under is not null`,
    [knot, anchors],
  );
}

/** A person is about to act: what is being matched meanwhile does not rest. Comes before the act's own changes. */
export async function countAct(db: SqlConnection, knot: string): Promise<void> {
  await db.query('update knot set acts = acts + 1 where id = $1', [knot]);
}
