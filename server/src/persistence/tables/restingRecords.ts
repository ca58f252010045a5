import { type AnchorId, type MemberId, type Reading, recordId, type RecordKey, recordKey } from '@anchor-knot/core';
import type { RunLease } from '../../orchestration/lease.js';
import type { Likeness, OutsideRecord, RecordRef, RestingRecord } from '../../orchestration/stored.js';
import type { SqlConnection } from '../sql.js';
import { tiedAmong } from './anchors.js';
import { blockNumber } from './evidenceIndex.js';
import { hashKey } from './hashKey.js';
import { fromJsonColumn, jsonColumn } from './jsonColumn.js';

/**
 * Records outside of anchors that rest: they take part in a run only when something changes that they might be tied to,
 * or that they are in doubt about.
 */

/** In the place of the version under which a record rests: it has left. No version is below 1. */
const left = 0;
/** By what those that rest are found. */
const marks = ['outside_key', 'outside_block', 'outside_doubt'] as const;

interface RestingRow {
  readonly member: string;
  readonly record_key: string;
  readonly reading: Reading;
  readonly reason: OutsideRecord['reason'];
  readonly verdict: 'aside' | null;
}

const fromRow = ({ member, record_key, reading, reason, verdict }: RestingRow): OutsideRecord => ({
  member,
  key: recordKey(record_key),
  reading,
  reason,
  ...(verdict ? { verdict } : {}),
});
/** What some records are in doubt about, each once. */
const topicsOf = (members: string, keys: string): string =>
  `select distinct o.topic from unnest(${members}::text[], ${keys}::text[]) as r(member, record_key)
     join outside_doubt o on o.knot_id = $1 and o.member = r.member and o.record_key = r.record_key`;
const recordTopic = ({ member, key }: RecordRef): string => JSON.stringify([member, key]);

/** How often people have acted on the anchors of a knot. */
export async function actsOf(data: SqlConnection, knot: string): Promise<number> {
  const [known] = (await data.query('select acts::int as acts from knot where id = $1', [knot])) as { acts: number }[];
  return known?.acts ?? 0;
}

/** What rested when a run began takes no part in it, also if it was woken since: whoever asks knows what does. */
export async function restingAmong(
  data: SqlConnection,
  knot: string,
  records: readonly RecordRef[],
): Promise<readonly OutsideRecord[]> {
  const rows = (await data.query(
    `select member, record_key, reading, reason, verdict from outside_record
       join unnest($2::text[], $3::text[]) as r(member, record_key) using (member, record_key) where knot_id = $1`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
  )) as RestingRow[];
  return rows.map(fromRow);
}

/**
 * By their keys, their blocks (of which those with too many records say nothing), and what people said of them; by the
 * anchors that are found so, and by what the same doubts are about. Also those that were woken since the run began.
 */
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
       select d.member, d.record_key from unnest($2::smallint[], $3::text[]) as k(rule, key_hash)
         join match_key m on m.knot_id = $1 and m.rule = k.rule and m.key_hash = k.key_hash
         join outside_doubt d on d.anchor_id = m.anchor_id
       union
       select d.member, d.record_key from unnest($4::bigint[], $5::int[]) as w(block, most) cross join lateral (
         select o.record_id, count(*) over () as alike from (
           select record_id from evidence_block b where b.block = w.block limit w.most + 1) o
         ) f join evidence_record e on e.id = f.record_id join outside_doubt d on d.anchor_id = e.anchor_id
         where f.alike <= w.most and e.knot_id = $1
       union
       select d.member, d.record_key from (${topicsOf('$6', '$7')}) own
         join outside_doubt d on d.knot_id = $1 and d.topic = own.topic
       union
       select d.member, d.record_key from unnest($6::text[], $7::text[]) as r(member, record_key)
         join tie t on t.knot_id = $1 and t.member = r.member and t.record_key = r.record_key
         join outside_doubt d on d.anchor_id = t.anchor_id
       union
       select v.member_b, v.key_b from unnest($6::text[], $7::text[]) as r(member, record_key)
         join verdict v on v.knot_id = $1 and v.member_a = r.member and v.key_a = r.record_key
       union
       select v.member_a, v.key_a from unnest($6::text[], $7::text[]) as r(member, record_key)
         join verdict v on v.knot_id = $1 and v.member_b = r.member and v.key_b = r.record_key)
     select member, record_key, reading, reason, verdict from near join outside_record using (member, record_key)
     where knot_id = $1 and verdict is null order by member, record_key`,
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

/**
 * Keeps records; they rest where nobody has acted since they were matched. One that was tied is left out. Of those that
 * are asked about the version is below 0, until their decisions are stored: they are woken as if they rested.
 */
export async function letRest(
  db: SqlConnection,
  { knot }: RunLease,
  version: number,
  acts: number,
  records: readonly RestingRecord[],
): Promise<void> {
  if (records.length === 0) return;
  // Who acts counts first, then changes, then wakes: either we see the count, or are woken by the change.
  const [known] = (await db.query('select acts::int as acts from knot where id = $1 for share', [knot])) as {
    acts: number;
  }[];
  const rests = known?.acts === acts;
  const kept = (await db.query(
    `insert into outside_record as o (knot_id, member, record_key, reason, reading, rests_under)
     select $1, r.member, r.record_key, r.reason, r.reading::jsonb,
       case when r.reason = 'untied' then $5::int else -$5::int end
     from unnest($2::text[], $3::text[], ${fromJsonColumn('$4')}, $6::text[])
       as r(member, record_key, reading, reason)
     on conflict (knot_id, member, record_key) do update set reason = excluded.reason, reading = excluded.reading,
       rests_under = excluded.rests_under where o.verdict is null
     returning member, record_key, xmax <> 0 as was_there`,
    [
      knot,
      records.map(({ member }) => member),
      records.map(({ key }) => key),
      jsonColumn(records.map(({ reading }) => reading)),
      rests ? version : null,
      records.map(({ reason }) => reason),
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
  await keepDoubts(db, knot, resting);
  await dropTied(db, knot, records);
}

async function keepDoubts(db: SqlConnection, knot: string, records: readonly RestingRecord[]): Promise<void> {
  const rows = records.flatMap(({ member, key, doubts: { anchors, records: named } }) => [
    ...anchors.map((anchor) => ({ member, key, topic: anchor as string, anchor })),
    ...named.map((record) => ({ member, key, topic: recordTopic(record), anchor: null })),
  ]);
  if (rows.length === 0) return;
  await db.query(
    `insert into outside_doubt (knot_id, topic, member, record_key, anchor_id)
     select $1, * from unnest($2::text[], $3::text[], $4::text[], $5::uuid[]) on conflict do nothing`,
    [
      knot,
      rows.map(({ topic }) => topic),
      rows.map(({ member }) => member),
      rows.map(({ key }) => key),
      rows.map(({ anchor }) => anchor),
    ],
  );
}

/**
 * Doubts about records that take part in the run, or have left, do not count: the run sees anew what they are like.
 * Those about records that were woken since it began do.
 */
export async function blockedByResting(
  data: SqlConnection,
  { knot, run }: RunLease,
  anchors: readonly AnchorId[],
): Promise<ReadonlyMap<AnchorId, ReadonlySet<MemberId>>> {
  const rows = (await data.query(
    `select d.anchor_id, d.member from outside_doubt d join outside_record o using (knot_id, member, record_key)
     where d.knot_id = $1 and d.anchor_id = any($3::uuid[]) and o.reason = 'waiting'
       and o.verdict is null and o.rests_under is distinct from ${left} and not exists (select from staged_record s
         where s.run_id = $2 and s.member = d.member and s.record_key = d.record_key)`,
    [knot, run, anchors],
  )) as { anchor_id: AnchorId; member: MemberId }[];
  const blocked = new Map<AnchorId, Set<MemberId>>();
  for (const { anchor_id: anchor, member } of rows) blocked.set(anchor, (blocked.get(anchor) ?? new Set()).add(member));
  return blocked;
}

/** What is asked about and was not woken since it was matched rests from now on: its decisions are stored. */
export async function beginToRest(
  db: SqlConnection,
  knot: string,
  version: number,
  records: readonly RecordRef[],
): Promise<void> {
  if (records.length === 0) return;
  await db.query(
    `update outside_record o set rests_under = $4 from unnest($2::text[], $3::text[]) as r(member, record_key)
     where o.knot_id = $1 and o.member = r.member and o.record_key = r.record_key and o.rests_under = -$4::int`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key), version],
  );
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

/** Records that have left are no more than known: the run that saw it forgets them at its end, or the next one does. */
export async function noteLeft(db: SqlConnection, { knot }: RunLease, records: readonly RecordRef[]): Promise<void> {
  await db.query(
    `update outside_record o set rests_under = ${left} from unnest($2::text[], $3::text[]) as r(member, record_key)
     where o.knot_id = $1 and o.member = r.member and o.record_key = r.record_key`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
  );
}

export async function wake(db: SqlConnection, knot: string, records: readonly RecordRef[]): Promise<void> {
  if (records.length === 0) return;
  await db.query(
    `update outside_record o set rests_under = null from unnest($2::text[], $3::text[]) as r(member, record_key)
     where o.knot_id = $1 and o.member = r.member and o.record_key = r.record_key and o.rests_under <> ${left}`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
  );
}

/** Wakes what is in doubt about the anchors of records that are gone. */
export async function wakeInDoubt(
  db: SqlConnection,
  knot: string,
  member: MemberId,
  keys: readonly RecordKey[],
): Promise<void> {
  await db.query(
    `update outside_record o set rests_under = null from tie t join outside_doubt d on d.anchor_id = t.anchor_id
     where t.knot_id = $1 and t.member = $2 and t.record_key = any($3::text[]) and o.knot_id = $1
       and o.member = d.member and o.record_key = d.record_key and o.rests_under <> ${left}`,
    [knot, member, keys],
  );
}

/**
 * Wakes what shares something with anchors of which newcomers find something else than before, and what is in doubt
 * about them. Most knots have nothing that rests, and are asked nothing more.
 */
export async function wakeLikeAnchors(db: SqlConnection, knot: string, anchors: readonly AnchorId[]): Promise<void> {
  if (anchors.length === 0) return;
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
       select d.member, d.record_key from outside_doubt d where d.anchor_id = any($2::uuid[])
       union
       select v.member_b, v.key_b from tied t
         join verdict v on v.knot_id = $1 and v.member_a = t.member and v.key_a = t.record_key
       union
       select v.member_a, v.key_a from tied t
         join verdict v on v.knot_id = $1 and v.member_b = t.member and v.key_b = t.record_key)
     update outside_record r set rests_under = null from near
     where r.knot_id = $1 and r.member = near.member and r.record_key = near.record_key and r.rests_under <> ${left}`,
    [knot, anchors],
  );
}

/** What waits for the same as records that a person takes out of the matching, or into it again. */
export async function wakePeers(db: SqlConnection, knot: string, records: readonly RecordRef[]): Promise<void> {
  await db.query(
    `with near as (
       select d.member, d.record_key from (${topicsOf('$2', '$3')}) own
         join outside_doubt d on d.knot_id = $1 and d.topic = own.topic)
     update outside_record o set rests_under = null from near
     where o.knot_id = $1 and o.member = near.member and o.record_key = near.record_key and o.rests_under <> ${left}`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
  );
}

/** A person is about to act: what is being matched meanwhile does not rest. Comes before the act's own changes. */
export async function countAct(db: SqlConnection, knot: string): Promise<void> {
  await db.query('update knot set acts = acts + 1 where id = $1', [knot]);
}
