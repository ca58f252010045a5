import type { RunCause } from '@anchor-knot/contracts';
import { jobChannel } from '../channels.js';
import type { SqlConnection } from '../sql.js';

/** Questions about the jobs of the queue (pg-boss keeps them in its own schema) that its interface has no answer to. */

export interface RunJob {
  readonly knot: string;
  readonly kind: 'run' | 'dry run';
  readonly startedBy: string;
  readonly cause: RunCause;
  /** Those that told of changes; all where it is null. */
  readonly members: readonly string[] | null;
  /** Keys of records that are read beside them, by member. */
  readonly records: Readonly<Record<string, readonly string[]>>;
  readonly full: boolean;
  readonly overGuards: boolean;
  /** Knots whose runs it waits for, where it was asked for together with them. */
  readonly after?: readonly string[] | undefined;
}

/** The connection as the queue takes it, so that a job is sent within a transaction. */
export function queueSql(db: SqlConnection): {
  executeSql(text: string, values: unknown[]): Promise<{ rows: unknown[] }>;
} {
  return { executeSql: async (text, values) => ({ rows: (await db.query(text, values)) as unknown[] }) };
}

export interface WaitingRun {
  readonly id: string;
  readonly data: RunJob;
  readonly createdOn: Date;
}

/** Runs that no worker has taken yet, in the order in which they were asked for. */
export async function waitingRuns(db: SqlConnection, queue: string): Promise<readonly WaitingRun[]> {
  return (await db.query(
    `select id, data, created_on as "createdOn" from pgboss.job where name = $1 and state = 'created'
     order by created_on`,
    [queue],
  )) as WaitingRun[];
}

/** Keys by member of two such objects, each once. */
const unionOf = (one: string, other: string): string =>
  `(select coalesce(jsonb_object_agg(member, keys), '{}') from (
      select member, jsonb_agg(distinct key) as keys from (
        select member, jsonb_array_elements(keys) as key from jsonb_each(${one}) as one(member, keys)
        union all select member, jsonb_array_elements(keys) from jsonb_each(${other}) as other(member, keys)) each
      group by member) together)`;

/**
 * Lets the run that waits under a key do what another one wants as well.
 * @returns its id; `undefined` when none waits any more
 */
export async function joinWaitingRun(
  db: SqlConnection,
  queue: string,
  key: string,
  { full, overGuards, members, records, cause, startedBy }: RunJob,
): Promise<string | undefined> {
  const [rows] = (await db.query(
    `update pgboss.job set data = data
       || jsonb_build_object('full', $3 or coalesce((data->>'full')::boolean, false))
       || jsonb_build_object('overGuards', $4 or coalesce((data->>'overGuards')::boolean, false))
       || jsonb_build_object('members', case when $5::jsonb is null or jsonb_typeof(data->'members') = 'null' then null
            else (select coalesce(jsonb_agg(distinct member), '[]')
              from jsonb_array_elements((data->'members') || $5::jsonb) member) end)
       || jsonb_build_object('records', ${unionOf("coalesce(data->'records', '{}')", '$8::jsonb')})
       || case when $6::text = 'person' then jsonb_build_object('cause', $6::text, 'startedBy', $7::text) else '{}' end
     where name = $1 and singleton_key = $2 and state = 'created' returning id`,
    [
      queue,
      key,
      full,
      overGuards,
      members === null ? null : JSON.stringify(members),
      cause,
      startedBy,
      JSON.stringify(records),
    ],
  )) as [{ id: string }[], number];
  return rows[0]?.id;
}

/** A job whose worker waits with it counts as just taken. */
export async function touchJob(db: SqlConnection, id: string): Promise<void> {
  await db.query(`update pgboss.job set started_on = now() where id = $1 and state = 'active'`, [id]);
}

interface OrphanedRun {
  readonly id: string;
  readonly data: RunJob;
  readonly ended: boolean;
  /** It had opened a phase to others: another worker goes on with it where it stood. */
  readonly resumes: boolean;
}

/** Jobs that were taken a while ago, and no run of theirs holds a lease: their worker died. */
export async function orphanedRuns(
  db: SqlConnection,
  queue: string,
  graceSeconds: number,
): Promise<readonly OrphanedRun[]> {
  return (await db.query(
    `select j.id, j.data, r.ended_at is not null as ended,
       r.ended_at is null and r.so_far is not null and exists (select from run_batch where run_id = r.id) as resumes
     from pgboss.job j left join run r on r.id = j.id
     where j.name = $1 and j.state = 'active' and j.started_on < now() - make_interval(secs => $2)
       and (r.id is null or r.ended_at is not null or r.lease_until < now())`,
    [queue, graceSeconds],
  )) as OrphanedRun[];
}

/** Has a job taken again under its id. */
export async function offerAgain(db: SqlConnection, id: string): Promise<void> {
  await db.query(`update pgboss.job set state = 'retry', started_on = null where id = $1 and state = 'active'`, [id]);
}

/** Workers hear that there is something to do. */
export async function tellWorkers(db: SqlConnection, job: string): Promise<void> {
  await db.query('select pg_notify($1, $2)', [jobChannel, job]);
}

/** Whether one of some knots has a run under way, or one that waits for a worker. */
export async function haveRuns(db: SqlConnection, queue: string, knots: readonly string[]): Promise<boolean> {
  if (knots.length === 0) return false;
  const [{ some }] = (await db.query(
    `select exists (select 1 from run where knot_id = any($2::text[]) and ended_at is null and kind = 'run')
       or exists (select 1 from pgboss.job where name = $1 and state in ('created', 'active')
         and data->>'kind' = 'run' and data->>'knot' = any($2::text[])) as some`,
    [queue, knots],
  )) as [{ some: boolean }];
  return some;
}
