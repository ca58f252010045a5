import { type AnchorId, anchorId, type MemberId } from '@anchor-knot/core';
import type { PlanContext, SharedPhase, TakenUp, WorkDone } from '../../orchestration/batch.js';
import {
  type BatchRequest,
  LeaseLost,
  type RunKind,
  type RunLease,
  type TakenBatch,
} from '../../orchestration/lease.js';
import { jobChannel } from '../channels.js';
import { greatestAnchor, leastAnchor } from '../rows.js';
import type { SqlConnection } from '../sql.js';
import { analyseIfMany } from './stagedRecords.js';

/** What a phase goes over, each anchor once. Parameters: the run, the knot. */
const anchorsOf: Readonly<Record<SharedPhase, string>> = {
  planning: `select anchor_id as id from staged_record where run_id = $1 and anchor_id is not null
    union select anchor_id from staged_tie where run_id = $1
    union select id from anchor where knot_id = $2 and open`,
  writing: 'select anchor_id as id from plan_entry where run_id = $1 and $2::text is not null',
};

/** Opens a phase in parts of so many anchors; the last one has all that comes after as well. */
export async function openBatches(
  db: SqlConnection,
  { run, knot }: RunLease,
  phase: SharedPhase,
  { context, soFar }: TakenUp,
  size: number,
): Promise<void> {
  if (phase === 'planning') await analyseIfMany(db, run);
  await db.query('delete from run_batch where run_id = $1', [run]);
  await db.query('update run set plan_context = $2, so_far = $3 where id = $1', [
    run,
    JSON.stringify(contextToColumn(context)),
    soFar === null ? null : JSON.stringify(soFar),
  ]);
  await db.query(
    `with numbered as (select id, row_number() over (order by id) as place, count(*) over () as total
       from (${anchorsOf[phase]}) each),
     ends as (select (place - 1) / $3 as place, case when place = total then $4::uuid else id end as up_to
       from numbered where place % $3 = 0 or place = total)
     insert into run_batch (run_id, place, phase, after_anchor, up_to_anchor)
     select $1, place, $5, coalesce(lag(up_to) over (order by place), $6), up_to from ends`,
    [run, knot, size, greatestAnchor, phase, leastAnchor],
  );
  await db.query('select pg_notify($1, $2)', [jobChannel, run]);
}

/**
 * Where a run stands that had opened a phase. Whoever had parts of it is fenced off; the parts are held until they are
 * freed, or a lease has run out.
 */
export async function takeUp(db: SqlConnection, run: string, heldUntil: Date): Promise<TakenUp | undefined> {
  const [row] = (await db.query(
    `select plan_context, so_far from run where id = $1 and so_far is not null
       and exists (select from run_batch where run_id = $1)`,
    [run],
  )) as { plan_context: ContextColumn; so_far: unknown }[];
  if (!row) return undefined;
  await db.query('update run_batch set token = token + 1, lease_until = $2 where run_id = $1 and result is null', [
    run,
    heldUntil,
  ]);
  return { context: contextFromColumn(row.plan_context), soFar: row.so_far };
}

export async function freeBatches(db: SqlConnection, { run }: RunLease): Promise<void> {
  await db.query(`update run_batch set lease_until = 'epoch' where run_id = $1 and result is null`, [run]);
  await db.query('select pg_notify($1, $2)', [jobChannel, run]);
}

interface TakenRow {
  readonly run_id: string;
  readonly knot_id: string;
  readonly knot_version: number;
  readonly kind: RunKind;
  readonly run_token: string;
  readonly plan_context: ContextColumn;
  readonly place: number;
  readonly phase: SharedPhase;
  readonly after_anchor: string;
  readonly up_to_anchor: string;
  readonly token: number;
  readonly taken_over: boolean;
}

/**
 * A part whose worker is in the middle of a transaction is not taken from it: its row is locked, and passed over. The
 * choice is made once, before the update: as a subquery it may be made again for each row, and take them all.
 */
export async function takeBatch(
  db: SqlConnection,
  { run, except = [], now, leaseMs }: BatchRequest,
): Promise<TakenBatch | undefined> {
  const [rows] = (await db.query(
    `with free as materialized (
       select b.run_id, b.place, b.lease_until is not null as taken_over, r.knot_id, r.knot_version, r.kind,
         r.token as run_token, r.plan_context
       from run_batch b join run r on r.id = b.run_id
       where b.result is null and (b.lease_until is null or b.lease_until < $2) and r.ended_at is null
         and r.lease_until > $2 and ($1::uuid is null or r.id = $1) and r.id <> all($4::uuid[])
       order by b.run_id, b.place limit 1 for no key update of b skip locked)
     update run_batch b set token = b.token + 1, lease_until = $3 from free
     where b.run_id = free.run_id and b.place = free.place
     returning b.*, free.knot_id, free.knot_version, free.kind, free.run_token, free.plan_context, free.taken_over`,
    [run ?? null, new Date(now), new Date(now + leaseMs), except],
  )) as [TakenRow[], number];
  const row = rows[0];
  if (!row) return undefined;
  return {
    lease: {
      run: row.run_id,
      knot: row.knot_id,
      token: Number(row.run_token),
      batch: { place: row.place, token: row.token },
    },
    phase: row.phase,
    range: { after: anchorId(row.after_anchor), upTo: anchorId(row.up_to_anchor) },
    context: contextFromColumn(row.plan_context),
    knotVersion: row.knot_version,
    kind: row.kind,
    isTakenOver: row.taken_over,
  };
}

/** @throws {LeaseLost} when the part is another worker's; otherwise it stays this one's until the transaction ends */
export async function holdBatch(db: SqlConnection, { run, batch }: RunLease): Promise<void> {
  if (!batch) return;
  const rows = (await db.query(
    'select 1 from run_batch where run_id = $1 and place = $2 and token = $3 and result is null for share',
    [run, batch.place, batch.token],
  )) as unknown[];
  if (rows.length === 0) throw new LeaseLost(run);
}

export async function renewBatch(
  db: SqlConnection,
  { run, token, batch }: RunLease,
  now: number,
  leaseMs: number,
): Promise<{ stop: boolean }> {
  const [rows] = (await db.query(
    `update run_batch b set lease_until = $5 from run r
     where b.run_id = $1 and b.place = $2 and b.token = $3 and b.result is null and r.id = b.run_id and r.token = $4
       and r.ended_at is null returning r.stop_asked`,
    [run, batch?.place, batch?.token, token, new Date(now + leaseMs)],
  )) as [{ stop_asked: boolean }[], number];
  if (!rows[0]) throw new LeaseLost(run);
  return { stop: rows[0].stop_asked };
}

export async function endBatch(db: SqlConnection, { run, batch }: RunLease, done: WorkDone): Promise<void> {
  await db.query('update run_batch set result = $3 where run_id = $1 and place = $2', [
    run,
    batch?.place,
    JSON.stringify(done),
  ]);
}

/** It counts as begun: who takes it next looks up what was done of it. */
export async function giveBack(db: SqlConnection, { run, batch }: RunLease): Promise<void> {
  await db.query(`update run_batch set lease_until = 'epoch' where run_id = $1 and place = $2 and token = $3`, [
    run,
    batch?.place,
    batch?.token,
  ]);
  await db.query('select pg_notify($1, $2)', [jobChannel, run]);
}

export async function batchResults(db: SqlConnection, { run }: RunLease): Promise<readonly (WorkDone | undefined)[]> {
  const rows = (await db.query('select result from run_batch where run_id = $1 order by place', [run])) as {
    result: WorkDone | null;
  }[];
  return rows.map(({ result }) => result ?? undefined);
}

/** Of anchors and members, as lists. */
interface ContextColumn {
  readonly blocked: readonly (readonly [AnchorId, readonly MemberId[]])[];
  readonly unclear: readonly (readonly [AnchorId, readonly MemberId[]])[];
  readonly troubled: readonly MemberId[];
  readonly partlyRead: readonly MemberId[];
}

function contextToColumn({ blocked, unclear, troubled, partlyRead }: PlanContext): ContextColumn {
  const listed = (members: PlanContext['blocked']): ContextColumn['blocked'] =>
    [...members].map(([anchor, some]) => [anchor, [...some]]);
  return {
    blocked: listed(blocked),
    unclear: listed(unclear),
    troubled: [...troubled],
    partlyRead: [...partlyRead],
  };
}

function contextFromColumn({ blocked, unclear, troubled, partlyRead }: ContextColumn): PlanContext {
  const mapped = (members: ContextColumn['blocked']): PlanContext['blocked'] =>
    new Map(members.map(([anchor, some]) => [anchor, new Set(some)]));
  return {
    blocked: mapped(blocked),
    unclear: mapped(unclear),
    troubled: new Set(troubled),
    partlyRead: new Set(partlyRead),
  };
}
