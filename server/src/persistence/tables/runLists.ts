import { type DataSource, In, IsNull, LessThan, Not } from 'typeorm';
import { RunEntity, type RunRow } from '../entities/entities.js';
import type { SqlConnection } from '../sql.js';
import { noteLostRun } from './runDays.js';

/** Runs as people and workers ask about them. */

export async function findRun(data: DataSource, id: string): Promise<RunRow | undefined> {
  return (await data.getRepository(RunEntity).findOneBy({ id })) ?? undefined;
}

/** The run that is under way. */
export async function openRunOf(data: DataSource, knot: string): Promise<RunRow | undefined> {
  return (await data.getRepository(RunEntity).findOne({ where: { knotId: knot, endedAt: IsNull() } })) ?? undefined;
}

/** The last run, which may be under way; no dry run. */
export async function lastRunOf(data: DataSource, knot: string): Promise<RunRow | undefined> {
  const where = { knotId: knot, kind: 'run' as const, state: Not('missed' as const) };
  return (await data.getRepository(RunEntity).findOne({ where, order: { startedAt: 'DESC' } })) ?? undefined;
}

/** The run by which a knot was loaded: the first that came to its end. */
export async function firstRunOf(data: DataSource, knot: string): Promise<RunRow | undefined> {
  const where = { knotId: knot, kind: 'run' as const, state: In(['succeeded', 'succeeded in part']) };
  return (await data.getRepository(RunEntity).findOne({ where, order: { startedAt: 'ASC' } })) ?? undefined;
}

/** The last dry run of a version of a knot, which may be under way. */
export async function lastDryRunOf(data: DataSource, knot: string, version: number): Promise<RunRow | undefined> {
  const where = { knotId: knot, kind: 'dry run' as const, knotVersion: version };
  return (await data.getRepository(RunEntity).findOne({ where, order: { startedAt: 'DESC' } })) ?? undefined;
}

/**
 * A page of runs, newest first, of one knot or all, begun before a moment.
 * @param withQuiet those too that nobody started, and that found nothing
 */
export async function runsBefore(
  data: DataSource,
  {
    knot,
    before,
    withQuiet,
  }: { readonly knot?: string | undefined; readonly before?: Date | undefined; readonly withQuiet?: boolean },
  limit: number,
): Promise<RunRow[]> {
  return data.getRepository(RunEntity).find({
    where: {
      ...(knot === undefined ? {} : { knotId: knot }),
      ...(before ? { startedAt: LessThan(before) } : {}),
      ...(withQuiet ? {} : { quiet: false }),
    },
    order: { startedAt: 'DESC' },
    take: limit,
  });
}

/** Asks a run to stop. @returns the run, where it is under way still */
export async function askToStop(data: DataSource, id: string): Promise<RunRow | undefined> {
  await data.query('update run set stop_asked = true where id = $1 and ended_at is null', [id]);
  return (await data.getRepository(RunEntity).findOneBy({ id, endedAt: IsNull() })) ?? undefined;
}

/** Ends a run whose worker failed, so that the next one need not wait for its lease. */
export async function endAsFailed(db: SqlConnection, id: string, words: string): Promise<void> {
  const [ended] = (await db.query(
    `update run set ended_at = now(), state = 'failed', words = $2, plan_context = null, so_far = null
     where id = (select id from run where id = $1 and ended_at is null for update) returning id`,
    [id, words],
  )) as [unknown[], number];
  if (ended.length > 0) await noteLostRun(db, id);
}

/** Whether there was a run under that id, and it has ended. */
export async function hasEnded(db: SqlConnection, id: string): Promise<boolean> {
  const rows = (await db.query('select 1 from run where id = $1 and ended_at is not null', [id])) as unknown[];
  return rows.length > 0;
}

/** Whether a run of the knot has begun since a moment. */
export async function hasRunSince(db: SqlConnection, knot: string, since: Date): Promise<boolean> {
  const rows = (await db.query('select 1 from run where knot_id = $1 and started_at > $2 limit 1', [
    knot,
    since,
  ])) as unknown[];
  return rows.length > 0;
}
