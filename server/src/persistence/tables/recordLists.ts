import type { RecordListName } from '@anchor-knot/contracts';
import type { MemberId, Reading, RecordKey } from '@anchor-knot/core';
import type { OutsideRecord, RecordRef } from '../../orchestration/stored.js';
import type { SqlConnection } from '../sql.js';
import { countAct, wakePeers } from './restingRecords.js';

/** The lists of records that are tied to nothing, for people. */

export type RecordList = Exclude<RecordListName, 'unacknowledged'>;

export interface ListedRow {
  readonly record_key: string;
  /** Of a record that takes part: what was last read of it. */
  readonly reading: Reading | null;
  /** Of one that the filter leaves out: what it is called. */
  readonly title: string | null;
}

/** A page of a list, in order of the keys, after one. */
export async function recordsOfList(
  db: SqlConnection,
  knot: string,
  member: MemberId,
  list: RecordList,
  after: string,
  limit: number,
): Promise<readonly ListedRow[]> {
  if (list === 'filtered')
    return (await db.query(
      `select record_key, null as reading, title from filtered_record
       where knot_id = $1 and member = $2 and record_key > $3 order by record_key limit $4`,
      [knot, member, after, limit],
    )) as ListedRow[];
  return (await db.query(
    `select record_key, reading, null as title from outside_record
     where knot_id = $1 and member = $2 and coalesce(verdict, reason) = $3 and record_key > $4
     order by record_key limit $5`,
    [knot, member, list, after, limit],
  )) as ListedRow[];
}

/** A record outside of anchors, locked until the end of the transaction. */
export async function lockOutside(
  db: SqlConnection,
  knot: string,
  { member, key }: RecordRef,
): Promise<Omit<OutsideRecord, keyof RecordRef> | undefined> {
  const [row] = (await db.query(
    `select reading, reason, verdict from outside_record
     where knot_id = $1 and member = $2 and record_key = $3 for update`,
    [knot, member, key],
  )) as { reading: Reading; reason: OutsideRecord['reason']; verdict: 'aside' | null }[];
  return row && { reading: row.reading, reason: row.reason, ...(row.verdict ? { verdict: row.verdict } : {}) };
}

/** Sets records aside, so that nothing asks about them; or takes that back. */
export async function setAside(
  db: SqlConnection,
  knot: string,
  member: MemberId,
  keys: readonly RecordKey[],
  by: { readonly person: string; readonly at: Date } | undefined,
): Promise<void> {
  await countAct(db, knot);
  await wakePeers(
    db,
    knot,
    keys.map((key) => ({ member, key })),
  );
  await db.query(
    `update outside_record set verdict = $4, set_aside_by = $5, set_aside_at = $6, rests_under = null
     where knot_id = $1 and member = $2 and record_key = any($3::text[])`,
    [knot, member, keys, by ? 'aside' : null, by?.person ?? null, by?.at ?? null],
  );
}

export interface AsideRow {
  readonly member: string;
  readonly record_key: string;
  readonly set_aside_by: string | null;
  readonly set_aside_at: Date | null;
}

/** Records of all members that somebody has set aside. */
export async function recordsSetAside(db: SqlConnection, knot: string, limit: number): Promise<readonly AsideRow[]> {
  return (await db.query(
    `select member, record_key, set_aside_by, set_aside_at from outside_record
     where knot_id = $1 and verdict = 'aside' order by member, record_key limit $2`,
    [knot, limit],
  )) as AsideRow[];
}

/** @returns whether it was set aside */
export async function takeInAgain(db: SqlConnection, knot: string, member: string, key: string): Promise<boolean> {
  const [rows] = (await db.query(
    `update outside_record set verdict = null, set_aside_by = null, set_aside_at = null, rests_under = null
     where knot_id = $1 and member = $2 and record_key = $3 and verdict = 'aside' returning record_key`,
    [knot, member, key],
  )) as [unknown[], number];
  return rows.length > 0;
}
