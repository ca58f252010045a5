import type { SqlConnection } from '../sql.js';

/** Calls of systems that runs made while somebody wanted to look into them; they are kept for a day. */

export interface KeptExchange {
  readonly member: string;
  readonly at: Date;
  readonly tookMs: number;
  readonly method: string;
  readonly target: string;
  readonly status: number | null;
  readonly sent: string | null;
  readonly received: string | null;
  readonly trouble: string | null;
}

export type ExchangeRow = KeptExchange & { readonly id: string };

export async function addExchanges(db: SqlConnection, run: string, kept: readonly KeptExchange[]): Promise<void> {
  await db.query(
    `insert into exchange (run_id, member, at, took_ms, method, target, status, sent, received, trouble)
     select $1, member, at, "tookMs", method, target, status, sent, received, trouble
     from jsonb_to_recordset($2::jsonb) as r(member text, at timestamptz, "tookMs" int, method text, target text,
       status int, sent text, received text, trouble text)`,
    // A text in PostgreSQL has no NUL.
    [run, JSON.stringify(kept).replaceAll('\\u0000', '\\ufffd')],
  );
}

/** A page of a run's calls, after one. */
export async function exchangesAfter(
  db: SqlConnection,
  run: string,
  after: string | undefined,
  limit: number,
): Promise<readonly ExchangeRow[]> {
  return (await db.query(
    `select id, member, at, took_ms as "tookMs", method, target, status, sent, received, trouble from exchange
     where run_id = $1 and id > $2 order by id limit $3`,
    [run, after ?? 0, limit],
  )) as ExchangeRow[];
}

/** For how many runs more the calls are to be kept. @returns false where there is no such knot */
export async function keepDetail(db: SqlConnection, knot: string, runs: number): Promise<boolean> {
  const [rows] = (await db.query('update knot set detail_runs = $2 where id = $1 returning id', [knot, runs])) as [
    unknown[],
    number,
  ];
  return rows.length > 0;
}

export async function detailRuns(db: SqlConnection, knot: string): Promise<number> {
  const [row] = (await db.query('select detail_runs from knot where id = $1', [knot])) as { detail_runs: number }[];
  return row?.detail_runs ?? 0;
}

/** @param leftOut calls of the run that were not kept */
export async function noteDetail(db: SqlConnection, run: string, leftOut: number): Promise<void> {
  await db.query('update run set calls_left_out = $2 where id = $1', [run, leftOut]);
  await db.query(
    `update knot set detail_runs = detail_runs - 1
     where id = (select knot_id from run where id = $1) and detail_runs > 0`,
    [run],
  );
}

/** How many calls of a run were not kept; `undefined` where none was to be. */
export async function callsLeftOut(db: SqlConnection, run: string): Promise<number | undefined> {
  const [row] = (await db.query('select calls_left_out from run where id = $1', [run])) as {
    calls_left_out: number | null;
  }[];
  return row?.calls_left_out ?? undefined;
}

export async function dropOldExchanges(db: SqlConnection, hours: number): Promise<void> {
  await db.query('delete from exchange where at < now() - make_interval(hours => $1)', [hours]);
}
