import type { Person } from '@anchor-knot/contracts';
import type { SqlConnection } from '../persistence/sql.js';
import { noteAct } from '../persistence/tables/audit.js';

/** Keeps what a person who is signed in did. Secrets are never part of `detail`. */
export async function writeAudit(
  data: SqlConnection,
  person: Person | undefined,
  action: string,
  detail: Readonly<Record<string, unknown>>,
): Promise<void> {
  await noteAct(data, person?.email ?? '', action, detail);
}
