import type { SqlConnection } from '../sql.js';
import {
  type AnchorId,
  anchorId,
  type EvidenceTexts,
  recordKey,
  type Reading,
  type TieReason,
} from '@anchor-knot/core';
import type { AnchorRange } from '../../orchestration/batch.js';
import type { RunLease } from '../../orchestration/lease.js';
import type { RecordRef, StagedNewcomer, StagedRecord } from '../../orchestration/stored.js';
import { byAnchor, greatestAnchor, leastAnchor } from '../rows.js';
import { fromJsonColumn, jsonColumn } from './jsonColumn.js';
import { keepUniqueValues } from './uniqueValues.js';

const newcomersAtOnce = 5000;
/** From that many new records on, the planner must know of them before they are walked through in order. */
const worthAnalysing = 5000;

interface StagedRow {
  readonly member: string;
  readonly record_key: string;
  /** JSON that only we read; as text it costs the database nothing to take and to give. */
  readonly reading: string;
}

export async function stage(db: SqlConnection, lease: RunLease, records: readonly StagedRecord[]): Promise<void> {
  await db.query(
    `insert into staged_record (run_id, member, record_key, anchor_id, match_keys, rejected, reading, texts)
     select $1, * from unnest($2::text[], $3::text[], $4::uuid[], ${fromJsonColumn('$5')},
       $6::boolean[], ${fromJsonColumn('$7')}, ${fromJsonColumn('$8')})
       as r(member, record_key, anchor_id, match_keys, rejected, reading, texts)
     on conflict (run_id, member, record_key) do update
       set anchor_id = excluded.anchor_id, match_keys = excluded.match_keys, rejected = excluded.rejected,
         reading = excluded.reading, texts = excluded.texts`,
    [
      lease.run,
      records.map(({ member }) => member),
      records.map(({ key }) => key),
      records.map(({ anchor }) => anchor ?? null),
      jsonColumn(records.map(({ matchKeys }) => matchKeys)),
      records.map(({ reading }) => (reading.rejected?.length ?? 0) > 0),
      jsonColumn(records.map(({ reading }) => reading)),
      jsonColumn(records.map(({ texts }) => texts ?? [])),
    ],
  );
  await keepUniqueValues(db, lease, records);
}

/** Takes records out of a run again. */
export async function unstage(db: SqlConnection, { run }: RunLease, records: readonly RecordRef[]): Promise<void> {
  await db.query(
    `delete from staged_record s using unnest($2::text[], $3::text[]) as r(member, record_key)
     where s.run_id = $1 and s.member = r.member and s.record_key = r.record_key`,
    [run, records.map(({ member }) => member), records.map(({ key }) => key)],
  );
}

export async function changeReadings(
  db: SqlConnection,
  { run }: RunLease,
  records: readonly (RecordRef & { readonly reading: Reading })[],
): Promise<void> {
  await db.query(
    `update staged_record s set reading = r.reading, rejected = r.rejected from unnest($2::text[], $3::text[],
      $4::boolean[], ${fromJsonColumn('$5')}) as r(member, key, rejected, reading)
     where s.run_id = $1 and s.member = r.member and s.record_key = r.key`,
    [
      run,
      records.map(({ member }) => member),
      records.map(({ key }) => key),
      records.map(({ reading }) => (reading.rejected?.length ?? 0) > 0),
      jsonColumn(records.map(({ reading }) => reading)),
    ],
  );
}

export async function* stagedNewcomers(
  data: SqlConnection,
  { run }: RunLease,
): AsyncIterable<readonly StagedNewcomer[]> {
  await analyseIfMany(data, run, ['staged_record']);
  let after: readonly [string, string] = ['', ''];
  for (;;) {
    const rows = (await data.query(
      `select member, record_key, match_keys, texts, rejected from staged_record where run_id = $1
        and anchor_id is null and (member, record_key) > ($2, $3 collate "C") order by member, record_key limit $4`,
      [run, ...after, newcomersAtOnce],
    )) as { member: string; record_key: string; match_keys: string; texts: string; rejected: boolean }[];
    const last = rows.at(-1);
    if (!last) return;
    yield rows.map((row) => ({
      member: row.member,
      key: recordKey(row.record_key),
      matchKeys: JSON.parse(row.match_keys) as (string | null)[],
      texts: JSON.parse(row.texts) as EvidenceTexts,
      isRejected: row.rejected,
    }));
    if (rows.length < newcomersAtOnce) return;
    after = [last.member, last.record_key];
  }
}

export async function stagedReadings(
  data: SqlConnection,
  { run }: RunLease,
  refs: readonly RecordRef[],
): Promise<readonly (RecordRef & { readonly reading: Reading })[]> {
  const rows = (await data.query(
    'select member, record_key, reading from staged_record join unnest($2::text[], $3::text[]) as ' +
      'wanted(member, record_key) using (member, record_key) where run_id = $1',
    [run, refs.map(({ member }) => member), refs.map(({ key }) => key)],
  )) as StagedRow[];
  return rows.map((row) => ({
    member: row.member,
    key: recordKey(row.record_key),
    reading: JSON.parse(row.reading) as Reading,
  }));
}

export async function assign(
  db: SqlConnection,
  { run }: RunLease,
  records: readonly (RecordRef & { readonly anchor: AnchorId; readonly why: TieReason | undefined })[],
): Promise<void> {
  await db.query(
    `insert into staged_tie (run_id, member, record_key, anchor_id, why)
     select $1, * from unnest($2::text[], $3::text[], $4::uuid[], $5::text[])`,
    [
      run,
      records.map(({ member }) => member),
      records.map(({ key }) => key),
      records.map(({ anchor }) => anchor),
      records.map(({ why }) => (why ? JSON.stringify(why) : null)),
    ],
  );
}

export async function anchorsToMerge(
  data: SqlConnection,
  { run, knot }: RunLease,
  { after, upTo }: AnchorRange,
  limit: number,
): Promise<readonly AnchorId[]> {
  const within = (id: string): string => `${id} > $3 and ${id} <= $5 order by 1 limit $4`;
  const rows = (await data.query(
    `select id from (
       (select distinct anchor_id as id from staged_record where run_id = $1 and ${within('anchor_id')})
       union (select distinct anchor_id from staged_tie where run_id = $1 and ${within('anchor_id')})
       union (select id from anchor where knot_id = $2 and open and ${within('id')})
     ) both_kinds order by id limit $4`,
    [run, knot, after ?? leastAnchor, limit, upTo ?? greatestAnchor],
  )) as { id: string }[];
  if (after === undefined && rows.length === limit) await analyseIfMany(data, run);
  return rows.map(({ id }) => anchorId(id));
}

/** The planner must know of many new records before they are walked through in order. */
export async function analyseIfMany(
  data: SqlConnection,
  run: string,
  tables: readonly ('staged_record' | 'staged_tie')[] = ['staged_record', 'staged_tie'],
): Promise<void> {
  const [{ many }] = (await data.query(
    'select count(*) = $2 as many from (select from staged_record where run_id = $1 limit $2) as first_rows',
    [run, worthAnalysing],
  )) as [{ many: boolean }];
  // Only the columns by which they are looked for: what was read of them is long.
  const columns = 'run_id, member, record_key, anchor_id';
  if (many) await data.query(`analyze ${tables.map((table) => `${table} (${columns})`).join(', ')}`);
}

export async function stagedFor(data: SqlConnection, { run }: RunLease, anchors: readonly AnchorId[]) {
  const rows = (await data.query(
    `select anchor_id, member, record_key, reading, null as why, false as is_new from staged_record
       where run_id = $1 and anchor_id = any($2::uuid[])
     union all select t.anchor_id, member, record_key, s.reading, t.why, true
       from staged_tie t join staged_record s using (run_id, member, record_key)
       where run_id = $1 and t.anchor_id = any($2::uuid[])
     order by member, record_key`,
    [run, anchors],
  )) as (StagedRow & { anchor_id: string; why: string | null; is_new: boolean })[];
  const staged = rows.map((row) => ({
    anchor: anchorId(row.anchor_id),
    member: row.member,
    key: recordKey(row.record_key),
    reading: JSON.parse(row.reading) as Reading,
    isNew: row.is_new,
    why: row.why === null ? undefined : (JSON.parse(row.why) as TieReason),
  }));
  return byAnchor(staged, ({ anchor }) => anchor);
}
