import type { MemberTally, RunResult } from '../../orchestration/runResult.js';
import type { SqlConnection } from '../sql.js';

/** What runs came to, day by day (UTC): added up as they end, so that nothing has to be counted again. */

const keptDays = 400;

export async function noteRunDay(db: SqlConnection, knot: string, { state, progress, now }: RunResult): Promise<void> {
  const sum = (of: (tally: MemberTally) => number): number =>
    Object.values(progress.tally).reduce((total, tally) => total + of(tally), 0);
  await db.query(
    `insert into run_day as d (knot_id, day, runs, troubled, written, failed)
     values ($1, ($2::timestamptz at time zone 'UTC')::date, 1, $3, $4, $5)
     on conflict (knot_id, day) do update set runs = d.runs + 1, troubled = d.troubled + excluded.troubled,
       written = d.written + excluded.written, failed = d.failed + excluded.failed`,
    [knot, new Date(now), state === 'succeeded' ? 0 : 1, sum(({ written }) => written), sum(({ failed }) => failed)],
  );
}

/** A run that came to no end of its own: its worker died, or it did not happen. */
export async function noteLostRun(db: SqlConnection, run: string): Promise<void> {
  await db.query(
    `insert into run_day as d (knot_id, day, runs, troubled, written, failed)
     select knot_id, (ended_at at time zone 'UTC')::date, 1, 1, 0, 0 from run where id = $1 and kind = 'run'
     on conflict (knot_id, day) do update set runs = d.runs + 1, troubled = d.troubled + 1`,
    [run],
  );
}

export interface RunDay {
  /** A date of the ISO calendar. */
  readonly day: string;
  readonly runs: number;
  /** Runs that did not succeed wholly. */
  readonly troubled: number;
  /** Records that were written, and writes that a system did not take. */
  readonly written: number;
  readonly failed: number;
}

/** The last days of all knots together, today the last; days without a run are among them. */
export async function lastRunDays(db: SqlConnection, days: number): Promise<readonly RunDay[]> {
  return (await db.query(
    `select to_char(g, 'YYYY-MM-DD') as day, coalesce(sum(d.runs), 0)::int as runs,
       coalesce(sum(d.troubled), 0)::int as troubled, coalesce(sum(d.written), 0)::int as written,
       coalesce(sum(d.failed), 0)::int as failed
     from generate_series((now() at time zone 'UTC')::date - ($1::int - 1), (now() at time zone 'UTC')::date,
       interval '1 day') g left join run_day d on d.day = g::date
     group by g order by g`,
    [days],
  )) as RunDay[];
}

export async function dropRunDays(db: SqlConnection): Promise<void> {
  await db.query('delete from run_day where day < current_date - $1::int', [keptDays]);
}
