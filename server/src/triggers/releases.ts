import { areThere } from '../orchestration/releasedHere.js';
import { referenceSource } from '../persistence/referenceSource.js';
import type { SqlConnection } from '../persistence/sql.js';
import { wakeReferring } from '../persistence/tables/anchors.js';
import { archivedWithThose, waitingFor } from '../persistence/tables/references.js';

/** So many are looked at; where more wait, the runs that these start take up the others too. */
const mostLookedAt = 2000;

/** The knots in which something waits for a thing of a knot that is there by now. */
export async function releasedKnots(db: SqlConnection, knot: string): Promise<readonly string[]> {
  const waiting = await waitingFor(db, knot, mostLookedAt);
  const there = await areThere(referenceSource(db), knot, waiting);
  return [...new Set(there.map((one) => one.knot))].sort();
}

/**
 * The knots in which something is to be archived with a thing of a knot, because a run has found that thing to be there
 * no more.
 */
export async function knotsLeftBehind(db: SqlConnection, knot: string, run: string): Promise<readonly string[]> {
  const left: string[] = [];
  for (const { knot: other, fields, members } of await archivedWithThose(db, knot))
    if ((await wakeReferring(db, run, other, { fields, members })) > 0) left.push(other);
  return left;
}
