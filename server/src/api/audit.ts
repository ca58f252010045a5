import type { DataSource } from 'typeorm';
import type { Person } from '@anchor-knot/contracts';

/** Keeps what a person did. Secrets are never part of `detail`. */
export async function writeAudit(
  data: DataSource,
  person: Person | undefined,
  action: string,
  detail: Readonly<Record<string, unknown>>,
): Promise<void> {
  await data.query('insert into audit (person, action, detail) values ($1, $2, $3)', [
    person?.email ?? '',
    action,
    JSON.stringify(detail),
  ]);
}
