import { type AnchorId, anchorId, type Found, Questions } from '@anchor-knot/core';
import { lookUp, type ReferenceSource } from './bindReferences.js';
import type { Store } from './store.js';
import type { WaitingReference } from './stored.js';

const lookedAtOnce = 5000;
const isKnown: ReadonlySet<Found['kind']> = new Set(['one', 'nobody']);

/** The things of a knot that wait for others of it which can be told by now, in the order of their ids. */
export async function releasedHere(store: Store, knot: string): Promise<readonly AnchorId[]> {
  const released = new Set<AnchorId>();
  for (let after: AnchorId | undefined; ;) {
    const waiting = await store.waitingWithin(knot, after, lookedAtOnce);
    for (const { anchor } of await areThere(store, knot, waiting)) released.add(anchor);
    if (waiting.length < lookedAtOnce) return [...released];
    // A thing may wait for several others, which do not all stand on one page: the last one is looked at again.
    const last = waiting.at(-1)?.anchor;
    after = waiting.findLast(({ anchor }) => anchor !== last)?.anchor ?? last;
  }
}

/** Those that wait for a thing of a knot that is there by now. */
export async function areThere<Waiting extends WaitingReference>(
  source: ReferenceSource,
  knot: string,
  waiting: readonly Waiting[],
): Promise<readonly Waiting[]> {
  if (waiting.length === 0) return [];
  const questions = new Questions();
  for (const { by, value, thing } of waiting) {
    const values = questions.way(knot, by);
    if (value !== null) values.add(value);
    if (thing !== null) questions.thing(knot, anchorId(thing));
  }
  const known = await lookUp(source, questions.asked);
  return waiting.filter(({ by, value, thing }) =>
    value === null
      ? known.nameOf(knot, by, known.current(anchorId(thing ?? ''))) !== undefined
      : isKnown.has(known.find(knot, by, value).kind),
  );
}
