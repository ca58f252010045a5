import { type MemberId, type RecordKey, recordKey } from '@anchor-knot/core';
import type { RunLease } from '../../orchestration/lease.js';
import type { KnownList } from '../../orchestration/stored.js';
import type { SqlConnection } from '../sql.js';

/** What complete listings have shown, and what they lack of the records that are known. */

/** A record that is shown twice is there once. */
export async function noteListed(
  db: SqlConnection,
  { run }: RunLease,
  member: MemberId,
  keys: readonly RecordKey[],
): Promise<void> {
  await db.query(
    'insert into listed_record (run_id, member, record_key) select $1, $2, unnest($3::text[]) on conflict do nothing',
    [run, member, keys],
  );
}

const lists: Readonly<Record<KnownList, string>> = {
  tied: 'tie known where not gone',
  outside: 'outside_record known where true',
  filtered: 'filtered_record known where true',
};

export async function unlisted(
  data: SqlConnection,
  { run, knot }: RunLease,
  member: MemberId,
  list: KnownList,
  after: RecordKey | undefined,
  limit: number,
): Promise<readonly RecordKey[]> {
  // Each is looked up by its key. As a join, with what the planner guesses of tables that have just grown, it was
  // quadratic: a second for two thousand records.
  const rows = (await data.query(
    `select record_key from ${lists[list]} and known.knot_id = $2 and known.member = $3 and known.record_key > $4
       and (select true from listed_record l
         where l.run_id = $1 and l.member = known.member and l.record_key = known.record_key) is null
     order by record_key limit $5`,
    [run, knot, member, after ?? '', limit],
  )) as { record_key: string }[];
  return rows.map(({ record_key }) => recordKey(record_key));
}
