import { applyComingVersion, lockKnot } from './versions.js';
import type { SqlConnection, SqlDatabase } from '../sql.js';
import type { MemberId } from '@anchor-knot/core';
import { type BegunRun, LeaseLost, type RunLease, type RunRequest } from '../../orchestration/lease.js';
import type { MemberCursor } from '../../orchestration/stored.js';
import type { RunProgress, RunResult } from '../../orchestration/runResult.js';
import { runChannel } from '../channels.js';
import { noteRead } from './readHours.js';
import { addUpCounts } from './recordCounts.js';
import { noteLostRun, noteRunDay } from './runDays.js';
import { holdBatch, renewBatch, takeUp } from './runBatches.js';
import { forgetRetry, noteRetry } from './retries.js';

/** What belongs to one run, and is worth nothing after it. */
const ofOneRun = ['staged_tie', 'staged_record', 'listed_record', 'plan_entry', 'run_batch'];

/** @param run SQL of its id, with one parameter */
async function forgetStaged(db: SqlConnection, run: string, parameter: string): Promise<void> {
  const [first, ...others] = ofOneRun.map((table) => `delete from ${table} where run_id in (${run})`);
  const named = others.map((deletion, place) => `deleted_${place} as (${deletion})`);
  await db.query(`with ${named.join(', ')} ${first}`, [parameter]);
}

/** Whoever listens hears, when the transaction commits, that a run's row has changed. */
async function tell(db: SqlConnection, run: string): Promise<void> {
  await db.query('select pg_notify($1, $2)', [runChannel, run]);
}

const locks = { share: 'key share', change: 'no key update', end: 'update' } as const;

/**
 * A transaction that holds the lease: the run's row is locked against its end, so nobody can take the run over in the
 * middle. The run's own transactions share the lock (members are read side by side), and do not wait for the lease to
 * be renewed, nor that for them; those that `change` the row come one after the other, and the `end` after them all.
 */
export async function withLease<T>(
  data: SqlDatabase,
  lease: RunLease,
  work: (db: SqlConnection) => Promise<T>,
  row: keyof typeof locks = 'share',
): Promise<T> {
  return data.transaction(async (db) => {
    const rows = (await db.query(
      `select 1 from run where id = $1 and token = $2
        and ended_at is null for ${locks[row]}`,
      [lease.run, lease.token],
    )) as unknown[];
    if (rows.length === 0) throw new LeaseLost(lease.run);
    await holdBatch(db, lease);
    return work(db);
  });
}

/** Waits for what the run's own transactions are doing; afterwards none of them begins. Comes before a run is ended. */
export async function lockEnd(db: SqlConnection, run: string): Promise<void> {
  await db.query('select 1 from run where id = $1 for update', [run]);
}

/** So many times its lease a run waits to be taken up where it stood, before another one takes its place. */
const leasesToBeTakenUp = 3;

/** @returns `undefined` while another run holds the knot */
export async function openRun(db: SqlConnection, request: RunRequest): Promise<BegunRun | undefined> {
  // One at a time per knot: the row of the knot is the lock.
  let standing = await lockKnot(db, request.knot);
  const [open] = (await db.query(
    `select id, lease_until, so_far is not null and exists (select from run_batch where run_id = run.id) as resumes
     from run where knot_id = $1 and ended_at is null`,
    [request.knot],
  )) as { id: string; lease_until: Date; resumes: boolean }[];
  if (open && open.lease_until.getTime() > request.now) return undefined;
  if (open?.resumes && open.id === request.run) return takeUpRun(db, request);
  const patience = open?.resumes ? leasesToBeTakenUp * request.leaseMs : 0;
  if (open && open.lease_until.getTime() + patience > request.now) return undefined;
  if (open) {
    await lockEnd(db, open.id);
    await db.query(
      `update run set ended_at = $2, state = 'failed', plan_context = null, so_far = null,
        words = 'the worker stopped in the middle; the next run took up where it stood' where id = $1`,
      [open.id, new Date(request.now)],
    );
    await noteLostRun(db, open.id);
    await tell(db, open.id);
    await applyComingVersion(db, request.knot);
    await forgetStaged(db, 'select id from run where knot_id = $1', request.knot);
    standing = await lockKnot(db, request.knot);
  }
  // Another version was put in force since the run was prepared: it is prepared anew.
  if (standing && standing.version !== request.knotVersion) return undefined;
  await addUpCounts(db, request.knot);
  const [{ token }] = (await db.query(
    `with begun as (
       insert into run (id, knot_id, knot_version, kind, started_by, started_at, token, lease_until, cause)
       select $1, $2, $3, $4, $5, $6, (select coalesce(max(token), 0) + 1 from run where knot_id = $2), $7, $8
       returning token)
     select token, pg_notify($9, $1::text) from begun`,
    [
      request.run,
      request.knot,
      request.knotVersion,
      request.kind,
      request.startedBy,
      new Date(request.now),
      new Date(request.now + request.leaseMs),
      request.cause ?? 'person',
      runChannel,
    ],
  )) as [{ token: string }];
  return { run: request.run, knot: request.knot, token: Number(token) };
}

/** A run whose worker died goes on where it stood, under a token that fences off whoever was at it. */
async function takeUpRun(
  db: SqlConnection,
  { run, knot, knotVersion, now, leaseMs }: RunRequest,
): Promise<BegunRun | undefined> {
  await lockEnd(db, run);
  const until = new Date(now + leaseMs);
  const [rows] = (await db.query(
    `update run set token = token + 1, lease_until = $2 where id = $1 and knot_version = $3 returning token`,
    [run, until, knotVersion],
  )) as [{ token: string }[], number];
  const takenUp = await takeUp(db, run, until);
  return rows[0] && takenUp ? { run, knot, token: Number(rows[0].token), takenUp } : undefined;
}

/** Where nobody else can be at work, runs that have not ended are dead. */
export async function giveUpRuns(db: SqlConnection, knot: string): Promise<void> {
  await db.query(`update run set lease_until = 'epoch' where knot_id = $1 and ended_at is null`, [knot]);
}

export async function renewLease(
  data: SqlDatabase,
  lease: RunLease,
  now: number,
  leaseMs: number,
): Promise<{ stop: boolean }> {
  if (lease.batch) return renewBatch(data, lease, now, leaseMs);
  const [rows] = (await data.query(
    'update run set lease_until = $3 where id = $1 and token = $2 and ended_at is null returning stop_asked',
    [lease.run, lease.token, new Date(now + leaseMs)],
  )) as [{ stop_asked: boolean }[], number];
  if (!rows[0]) throw new LeaseLost(lease.run);
  return { stop: rows[0].stop_asked };
}

/** Tells how far the run is, and renews its lease with it. */
export async function saveProgress(
  data: SqlDatabase,
  lease: RunLease,
  progress: RunProgress,
  now: number,
  leaseMs: number,
): Promise<{ stop: boolean }> {
  const [run] = (await data.query(
    `with renewed as (update run set lease_until = $3, progress = $4 where id = $1 and token = $2 and ended_at is null
       returning stop_asked) select stop_asked, pg_notify($5, $1::text) from renewed`,
    [lease.run, lease.token, new Date(now + leaseMs), JSON.stringify(progress), runChannel],
  )) as { stop_asked: boolean }[];
  if (!run) throw new LeaseLost(lease.run);
  return { stop: run.stop_asked };
}

export async function closeRun(
  db: SqlConnection,
  lease: RunLease,
  result: RunResult,
  cursors: ReadonlyMap<MemberId, MemberCursor>,
): Promise<void> {
  const [ended] = (await db.query(
    `with ended as (
       update run set ended_at = $2, state = $3, progress = $4, troubles = $5, guards = $6, words = $7,
         plan_context = null, so_far = null, quiet = cause <> 'person' and $8 where id = $1 returning kind)
     select kind, pg_notify($9, $1::text) from ended`,
    [
      lease.run,
      new Date(result.now),
      result.state,
      JSON.stringify(result.progress),
      JSON.stringify(result.troubles),
      JSON.stringify(result.guards),
      result.words ?? null,
      hasDoneNothing(result),
      runChannel,
    ],
  )) as { kind: string }[];
  if (ended?.kind === 'run') await keepForLater(db, lease, result);
  for (const [member, { changedSince, listedAt, readAt, knotVersion }] of cursors) {
    await db.query(
      `insert into member_cursor (knot_id, member, changed_since, listed_at, read_at, knot_version)
       values ($1, $2, $3, $4, $5, $6)
       on conflict (knot_id, member) do update set changed_since = excluded.changed_since,
         listed_at = excluded.listed_at, read_at = excluded.read_at, knot_version = excluded.knot_version`,
      [lease.knot, member, ...[changedSince, listedAt, readAt].map(Math.round), knotVersion],
    );
  }
  await applyComingVersion(db, lease.knot);
  await forgetStaged(db, '$1', lease.run);
}

/**
 * What follows from a run for those to come: what it could not do is tried again by itself, until one makes up for it;
 * and what it read tells what is usual. Nothing follows from a dry run.
 */
async function keepForLater(db: SqlConnection, { run, knot }: RunLease, result: RunResult): Promise<void> {
  await noteRunDay(db, knot, result);
  await noteRead(db, knot, result.changed, new Date(result.now));
  if (result.readByName.length > 0)
    await db.query(
      `update member_cursor c set told_read_at = r.started_at from run r
       where r.id = $1 and c.knot_id = r.knot_id and c.member = any($2)`,
      [run, result.readByName],
    );
  if (result.tryAgain.length > 0) await noteRetry(db, knot, result.tryAgain, new Date(result.now));
  else await forgetRetry(db, knot, result.readWell);
}

/** Whether nobody need know of the run. */
function hasDoneNothing({ state, progress }: RunResult): boolean {
  const counts = Object.values(progress.tally);
  const operations = counts.map((tally) => tally.create + tally.update + tally.archive + tally.delete);
  return state === 'succeeded' && operations.every((count) => count === 0);
}

export async function cursorsOf(data: SqlConnection, knot: string): Promise<ReadonlyMap<MemberId, MemberCursor>> {
  const rows = (await data.query(
    `select member, changed_since, listed_at, read_at, told_read_at, knot_version from member_cursor
     where knot_id = $1`,
    [knot],
  )) as {
    member: string;
    changed_since: string;
    listed_at: string;
    read_at: string;
    told_read_at: Date | null;
    knot_version: number;
  }[];
  return new Map(
    rows.map((row) => [
      row.member,
      {
        changedSince: Number(row.changed_since),
        listedAt: Number(row.listed_at),
        readAt: Number(row.read_at),
        ...(row.told_read_at ? { toldReadAt: row.told_read_at.getTime() } : {}),
        knotVersion: row.knot_version,
      },
    ]),
  );
}
