import type { SqlConnection } from '../persistence/sql.js';
import { allTimings } from '../persistence/tables/timings.js';

/**
 * What is wrong with the knots that a knot is to wait for, in words: there is none of that name, or it waits for this
 * one itself, and both would wait for each other.
 */
export async function problemOfOrder(
  db: SqlConnection,
  knot: string,
  after: readonly string[],
): Promise<string | undefined> {
  if (after.length === 0) return undefined;
  const timings = await allTimings(db);
  const stranger = after.find((id) => !timings.has(id));
  if (stranger !== undefined) return `There is no knot ${stranger}.`;
  const seen = new Set<string>();
  const waitsForThis = (id: string): boolean => {
    if (id === knot) return true;
    if (seen.has(id)) return false;
    seen.add(id);
    return (timings.get(id)?.after ?? []).some(waitsForThis);
  };
  const circle = after.find(waitsForThis);
  return circle === undefined ? undefined : `${circle} waits for this knot itself: both would wait for each other.`;
}
