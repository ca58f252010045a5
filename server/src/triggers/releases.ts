import { areThere } from '../orchestration/releasedHere.js';
import { referenceSource } from '../persistence/referenceSource.js';
import type { SqlConnection } from '../persistence/sql.js';
import { waitingFor } from '../persistence/tables/references.js';

/** So many are looked at; where more wait, the runs that these start take up the others too. */
const mostLookedAt = 2000;

/** The knots in which something waits for a thing of a knot that is there by now. */
export async function releasedKnots(db: SqlConnection, knot: string): Promise<readonly string[]> {
  const waiting = await waitingFor(db, knot, mostLookedAt);
  const there = await areThere(referenceSource(db), knot, waiting);
  return [...new Set(there.map((one) => one.knot))].sort();
}
