import { createHash } from 'node:crypto';
import type { SqlConnection } from '../sql.js';
import { recordKey } from '@anchor-knot/core';
import type { RunLease } from '../../orchestration/lease.js';
import type { RepeatedValue, StagedRecord } from '../../orchestration/stored.js';

/** Keeps what staged records have under checks of unique values; a blank is kept as nothing. */
export async function keepUniqueValues(
  db: SqlConnection,
  { knot }: RunLease,
  records: readonly StagedRecord[],
): Promise<void> {
  const rows = records.flatMap(({ member, key, unique }) =>
    (unique ?? []).map(({ check, value }) => ({ check, member, key, value })),
  );
  if (rows.length === 0) return;
  const columns = [rows.map(({ check }) => check), rows.map(({ member }) => member), rows.map(({ key }) => key)];
  await db.query(
    `delete from unique_value u using unnest($2::text[], $3::text[], $4::text[]) as r(check_id, member, record_key)
     where u.knot_id = $1 and u.check_id = r.check_id and u.member = r.member and u.record_key = r.record_key`,
    [knot, ...columns],
  );
  await db.query(
    `insert into unique_value (knot_id, check_id, member, record_key, value_hash)
     select $1, check_id, member, record_key, value_hash from unnest($2::text[], $3::text[], $4::text[],
       $5::text[]) as r(check_id, member, record_key, value_hash)
     where value_hash is not null on conflict (knot_id, check_id, member, record_key) do update
       set value_hash = excluded.value_hash`,
    [
      knot,
      ...columns,
      rows.map(({ value }) => (value === undefined ? null : createHash('sha256').update(value).digest('base64'))),
    ],
  );
}

/**
 * Records whose value another record of their member has too; records that are gone or set aside do not count. Only
 * values are looked at that a staged record has, or a tied one that is rejected: where others are repeated, all that
 * have them were rejected when the last of them came.
 */
export async function repeatedValues(
  data: SqlConnection,
  { run, knot }: RunLease,
  checks: readonly string[],
): Promise<readonly RepeatedValue[]> {
  const rows = (await data.query(
    `with looked as (
       select member, record_key from staged_record where run_id = $1
       union select member, record_key from tie where knot_id = $2 and rejected is not null and not gone
     ), touched as (
       select distinct u.check_id, u.member, u.value_hash
       from looked cross join unnest($3::text[]) as c(check_id) join unique_value u on u.knot_id = $2
         and u.check_id = c.check_id and u.member = looked.member and u.record_key = looked.record_key
     ), present as (
       select u.check_id, u.member, u.record_key, u.value_hash, s.record_key is not null as staged
       from touched join unique_value u on u.knot_id = $2 and u.check_id = touched.check_id
         and u.member = touched.member and u.value_hash = touched.value_hash
       left join staged_record s on s.run_id = $1 and s.member = u.member and s.record_key = u.record_key
       where s.record_key is not null
         or exists (select from tie t where t.knot_id = $2 and t.member = u.member and t.record_key = u.record_key
           and not t.gone)
         or exists (select from outside_record o where o.knot_id = $2 and o.member = u.member
           and o.record_key = u.record_key and o.rests_under is not null)
     )
     select check_id, member, record_key, staged from (select present.*, count(*) over (partition by check_id, member,
       value_hash) as alike from present) counted
     where alike > 1 order by check_id, member, record_key`,
    [run, knot, checks],
  )) as { check_id: string; member: string; record_key: string; staged: boolean }[];
  return rows.map(({ check_id, member, record_key, staged }) => ({
    check: check_id,
    member,
    key: recordKey(record_key),
    isStaged: staged,
  }));
}
