import { anchorId, Questions } from '@anchor-knot/core';
import { lookUp } from '../orchestration/bindReferences.js';
import { referenceSource } from '../persistence/referenceSource.js';
import type { SqlConnection } from '../persistence/sql.js';
import { waitingFor, type WaitingReference } from '../persistence/tables/references.js';

/** So many are looked at; where more wait, the runs that these start take up the others too. */
const mostLookedAt = 2000;

/** The knots in which something waits for a thing of a knot that is there by now. */
export async function releasedKnots(db: SqlConnection, knot: string): Promise<readonly string[]> {
  const waiting = await waitingFor(db, knot, mostLookedAt);
  if (waiting.length === 0) return [];
  const questions = new Questions();
  for (const { by, value, thing } of waiting) {
    const values = questions.way(knot, by);
    if (value !== null) values.add(value);
    if (thing !== null) questions.thing(knot, anchorId(thing));
  }
  const known = await lookUp(referenceSource(db), questions.asked);
  const isThere = ({ by, value, thing }: WaitingReference): boolean =>
    value === null
      ? known.nameOf(knot, by, known.current(anchorId(thing ?? ''))) !== undefined
      : known.find(knot, by, value).kind === 'one';
  return [...new Set(waiting.filter(isThere).map((one) => one.knot))].sort();
}
