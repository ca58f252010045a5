import type { SqlConnection } from '../sql.js';

/** Addresses at which other programs start knots, and the calls that were taken there. */

export interface StartCallRow {
  readonly id: string;
  readonly knot_id: string;
  readonly name: string;
  readonly secret: Buffer;
  readonly made_by: string;
  readonly made_at: Date;
  readonly last_at: Date | null;
  readonly taken: number;
  readonly refused: number;
}

export async function startCallsOf(db: SqlConnection, knot: string): Promise<readonly StartCallRow[]> {
  return (await db.query('select * from start_call where knot_id = $1 order by made_at, id', [knot])) as StartCallRow[];
}

export async function findStartCall(db: SqlConnection, id: string): Promise<StartCallRow | undefined> {
  const [row] = (await db.query('select * from start_call where id = $1', [id])) as StartCallRow[];
  return row;
}

export async function addStartCall(
  db: SqlConnection,
  { id, knot_id, name, secret, made_by }: Pick<StartCallRow, 'id' | 'knot_id' | 'name' | 'secret' | 'made_by'>,
): Promise<void> {
  await db.query('insert into start_call (id, knot_id, name, secret, made_by) values ($1, $2, $3, $4, $5)', [
    id,
    knot_id,
    name,
    secret,
    made_by,
  ]);
}

/** @returns false where the knot has none of that id */
export async function removeStartCall(db: SqlConnection, knot: string, id: string): Promise<boolean> {
  const [rows] = (await db.query('delete from start_call where knot_id = $1 and id = $2 returning id', [knot, id])) as [
    unknown[],
    number,
  ];
  return rows.length > 0;
}

/** The run that a call led to which was taken before. */
export async function runOfCall(db: SqlConnection, call: string, message: string): Promise<string | undefined> {
  const [row] = (await db.query('select run_id as run from start_call_taken where call_id = $1 and message_id = $2', [
    call,
    message,
  ])) as { run: string }[];
  return row?.run;
}

/** Calls of one address are taken one after the other, so that none is taken twice. */
export async function lockStartCall(db: SqlConnection, id: string): Promise<boolean> {
  const rows = (await db.query('select 1 from start_call where id = $1 for update', [id])) as unknown[];
  return rows.length > 0;
}

/** Keeps that a call was taken; forgets those whose time is over. */
export async function noteTaken(
  db: SqlConnection,
  call: string,
  message: string,
  run: string,
  minutes: number,
): Promise<void> {
  await db.query('delete from start_call_taken where taken_at < now() - make_interval(mins => $1)', [minutes]);
  await db.query('insert into start_call_taken (call_id, message_id, run_id) values ($1, $2, $3)', [
    call,
    message,
    run,
  ]);
  await db.query('update start_call set taken = taken + 1, last_at = now() where id = $1', [call]);
}

export async function noteRefused(db: SqlConnection, call: string): Promise<void> {
  await db.query('update start_call set refused = refused + 1 where id = $1', [call]);
}
