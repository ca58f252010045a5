import type { Knot } from '@anchor-knot/core';
import { areThere } from '../orchestration/releasedHere.js';
import { referenceSource } from '../persistence/referenceSource.js';
import type { SqlConnection } from '../persistence/sql.js';
import { wakeReferring } from '../persistence/tables/anchors.js';
import { waitingFor } from '../persistence/tables/references.js';

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
 * @param others the definitions that are in force
 */
export async function knotsLeftBehind(
  db: SqlConnection,
  knot: string,
  run: string,
  others: readonly Knot[],
): Promise<readonly string[]> {
  const left: string[] = [];
  for (const { id, fields, members } of others) {
    const by = fields
      .filter(({ refersTo, archivedWith }) => archivedWith && refersTo === knot)
      .map((field) => field.id);
    const archiving = members.filter(({ may }) => may.archive).map((member) => member.id);
    if (by.length > 0 && (await wakeReferring(db, run, id, { fields: by, members: archiving })) > 0) left.push(id);
  }
  return left;
}
