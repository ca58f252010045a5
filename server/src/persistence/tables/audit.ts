import type { SqlConnection } from '../sql.js';

/** Keeps what a person did. Secrets are never part of `detail`. */
export async function noteAct(
  db: SqlConnection,
  person: string,
  action: string,
  detail: Readonly<Record<string, unknown>>,
): Promise<void> {
  await db.query('insert into audit (person, action, detail) values ($1, $2, $3)', [
    person,
    action,
    JSON.stringify(detail),
  ]);
}
