import type { MemberId } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';

/** What a run could not do because of something that may pass: tried again by itself, with growing pauses. */

/** In minutes, after each attempt; the last one from then on. */
const pauses = [1, 2, 5, 15, 30, 60] as const;

/** Keeps that something is to be tried again, later each time. */
export async function noteRetry(
  db: SqlConnection,
  knot: string,
  members: readonly MemberId[],
  now: Date,
): Promise<void> {
  await db.query(
    `insert into retry as r (knot_id, members, attempts, due_at)
       values ($1, $2, 1, $3::timestamptz + make_interval(mins => ($4::int[])[1]))
     on conflict (knot_id) do update set members = excluded.members, attempts = r.attempts + 1,
       due_at = $3::timestamptz + make_interval(mins => ($4::int[])[least(r.attempts + 1, cardinality($4::int[]))])`,
    [knot, members, now, pauses],
  );
}

/** Nothing is to be tried again where all those members were read well since. */
export async function forgetRetry(db: SqlConnection, knot: string, readWell: readonly MemberId[]): Promise<void> {
  await db.query('delete from retry where knot_id = $1 and members <@ $2::text[]', [knot, readWell]);
}

export interface DueRetry {
  readonly knot: string;
  readonly members: readonly MemberId[];
}

/**
 * What is to be tried again by now, of the knot that waits for longest; locked until the end of the transaction. It is
 * due again after the longest pause, unless its run says otherwise before.
 */
export async function takeDueRetry(db: SqlConnection, now: Date): Promise<DueRetry | undefined> {
  const [[row]] = (await db.query(
    `update retry set due_at = $1::timestamptz + make_interval(mins => $2)
     where knot_id = (select knot_id from retry where due_at <= $1 order by due_at limit 1 for update skip locked)
     returning knot_id as knot, members`,
    [now, pauses.at(-1)],
  )) as [DueRetry[], number];
  return row;
}

/** It is due then, and not before. */
export async function postponeRetry(db: SqlConnection, knot: string, until: Date): Promise<void> {
  await db.query('update retry set due_at = $2 where knot_id = $1', [knot, until]);
}

/** When each knot is tried again, and how often that was done in vain. */
export async function dueRetries(
  db: SqlConnection,
): Promise<ReadonlyMap<string, { readonly at: Date; readonly attempts: number }>> {
  const rows = (await db.query('select knot_id as knot, due_at as at, attempts from retry')) as {
    knot: string;
    at: Date;
    attempts: number;
  }[];
  return new Map(rows.map(({ knot, at, attempts }) => [knot, { at, attempts }]));
}
