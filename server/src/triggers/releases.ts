import { areThere } from '../orchestration/releasedHere.js';
import { referenceSource } from '../persistence/referenceSource.js';
import type { SqlConnection } from '../persistence/sql.js';
import { openReferring } from '../persistence/tables/anchors.js';
import { type CountingMember, membersCounting } from '../persistence/tables/groups.js';
import { archivedWithThose, waitingFor } from '../persistence/tables/references.js';
import { thingsChangedSince } from '../persistence/tables/thingChanges.js';
import { endedIn } from '../persistence/tables/ties.js';

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
  const ended = await endedIn(db, run);
  if (ended.length === 0) return [];
  const left: string[] = [];
  for (const by of await archivedWithThose(db, knot)) if ((await openReferring(db, ended, by)) > 0) left.push(by.knot);
  return left;
}

/**
 * The members whose records are counted of the things of a knot, where a run has made something of them: nothing is
 * counted again for a run that found all as it was.
 */
export async function toBeCounted(db: SqlConnection, knot: string, run: string): Promise<readonly CountingMember[]> {
  const counting = await membersCounting(db, knot);
  return counting.length > 0 && (await thingsChangedSince(db, run)) ? counting : [];
}
