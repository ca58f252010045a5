import type { Timing } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';
import { noteLostRun } from './runDays.js';

/** When knots run by themselves, and what is due next. */

export interface TimingRow {
  readonly timing: Timing;
  readonly revision: number;
  readonly changed_by: string;
  readonly changed_at: Date;
}

export async function findTiming(db: SqlConnection, knot: string): Promise<TimingRow | undefined> {
  const [row] = (await db.query('select timing, revision, changed_by, changed_at from knot_timing where knot_id = $1', [
    knot,
  ])) as TimingRow[];
  return row;
}

/** Of every knot; an empty one where nothing was set. */
export async function allTimings(db: SqlConnection): Promise<ReadonlyMap<string, Partial<Timing>>> {
  const rows = (await db.query(
    'select knot.id, timing from knot left join knot_timing on knot_timing.knot_id = knot.id',
  )) as { id: string; timing: Timing | null }[];
  return new Map(rows.map(({ id, timing }) => [id, timing ?? {}]));
}

/** Where the runs of a knot stand among those of others. */
export async function rankOf(db: SqlConnection, knot: string): Promise<'first' | 'among' | 'last'> {
  const [row] = (await db.query(`select timing ->> 'rank' as rank from knot_timing where knot_id = $1`, [knot])) as {
    rank: Timing['rank'] | null;
  }[];
  return row?.rank ?? 'among';
}

/** @returns the new revision; `undefined` when it is not the one that was seen any more */
export async function saveTiming(
  db: SqlConnection,
  knot: string,
  seen: number,
  timing: Timing,
  person: string,
): Promise<number | undefined> {
  const [row] = (await db.query(
    `insert into knot_timing as t (knot_id, timing, revision, changed_by, changed_at)
       select $1, $2, 1, $4, now() where $3 = 0 or exists (select 1 from knot_timing where knot_id = $1)
     on conflict (knot_id) do update set timing = excluded.timing, revision = t.revision + 1,
       changed_by = excluded.changed_by, changed_at = excluded.changed_at where t.revision = $3
     returning revision`,
    [knot, JSON.stringify(timing), seen, person],
  )) as { revision: number }[];
  return row?.revision;
}

/** Replaces all that is due of a knot. */
export async function setDueSlots(
  db: SqlConnection,
  knot: string,
  slots: readonly { readonly purpose: string; readonly at: Date }[],
): Promise<void> {
  await db.query('delete from due_slot where knot_id = $1', [knot]);
  for (const { purpose, at } of slots) await moveDueSlot(db, knot, purpose, at);
}

/** @param at when it is due next; never, where it is left out */
export async function moveDueSlot(
  db: SqlConnection,
  knot: string,
  purpose: string,
  at: Date | undefined,
): Promise<void> {
  if (at)
    await db.query(
      `insert into due_slot (knot_id, purpose, due_at) values ($1, $2, $3)
       on conflict (knot_id, purpose) do update set due_at = excluded.due_at`,
      [knot, purpose, at],
    );
  else await db.query('delete from due_slot where knot_id = $1 and purpose = $2', [knot, purpose]);
}

/** Keeps what was seen of a member before it was asked. */
export async function noteSeen(db: SqlConnection, { knot, purpose }: DueSlot, seen: string): Promise<void> {
  await db.query('update due_slot set seen = $3 where knot_id = $1 and purpose = $2', [knot, purpose, seen]);
}

export interface DueSlot {
  readonly knot: string;
  readonly purpose: string;
  readonly dueAt: Date;
  /** What was seen when it was last looked at. */
  readonly seen: string | null;
}

/** The slot that is due for longest, locked until the end of the transaction; none that somebody else looks at. */
export async function takeDueSlot(db: SqlConnection, now: Date): Promise<DueSlot | undefined> {
  const [row] = (await db.query(
    `select knot_id as knot, purpose, due_at as "dueAt", seen from due_slot where due_at <= $1
     order by due_at limit 1 for update skip locked`,
    [now],
  )) as DueSlot[];
  return row;
}

/** When each knot runs next by itself, other than by asking single members. */
export async function nextDue(db: SqlConnection): Promise<ReadonlyMap<string, Date>> {
  const rows = (await db.query(
    `select knot_id as knot, min(due_at) as at from due_slot where purpose in ('changes', 'everything')
     group by knot_id`,
  )) as { knot: string; at: Date }[];
  return new Map(rows.map(({ knot, at }) => [knot, at]));
}

/** Notes slots at which nothing ran, as one entry among the runs. */
export async function addMissed(
  db: SqlConnection,
  missed: {
    readonly run: string;
    readonly knot: string;
    readonly version: number;
    readonly since: Date;
    readonly now: Date;
    readonly words: string;
  },
): Promise<void> {
  await db.query(
    `insert into run (id, knot_id, knot_version, kind, cause, started_by, started_at, ended_at, state, token,
       lease_until, words)
     values ($1, $2, $3, 'run', 'schedule', '', $4, $5, 'missed', 0, $5, $6)`,
    [missed.run, missed.knot, missed.version, missed.since, missed.now, missed.words],
  );
  await noteLostRun(db, missed.run);
}

/** Whether a run of the knot came to a good end, so that somebody has seen what it does. */
export async function hasSucceeded(db: SqlConnection, knot: string): Promise<boolean> {
  const rows = (await db.query(
    `select 1 from run where knot_id = $1 and kind = 'run' and state in ('succeeded', 'succeeded in part') limit 1`,
    [knot],
  )) as unknown[];
  return rows.length > 0;
}

/** Knots whose pause is over run again. */
export async function resumeKnots(db: SqlConnection, now: Date): Promise<void> {
  await db.query(
    `update knot set state = 'running', state_at = resume_at, state_by = null, resume_at = null
     where state = 'paused' and resume_at <= $1`,
    [now],
  );
}

/** Runs that were started by nobody and did nothing are forgotten after some days; of each knot the last ones stay. */
export async function dropQuietRuns(db: SqlConnection, days: number): Promise<void> {
  await db.query('delete from run where quiet and started_at < now() - make_interval(days => $1)', [days]);
}
