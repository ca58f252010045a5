import type { Knot } from './knot.js';

/** A knot, and those that come before it where several run together. */
export interface OrderedKnot {
  readonly id: string;
  readonly after: readonly string[];
}

/** The other knots that a knot refers to, each once. */
export function referredKnots({ id, fields }: Pick<Knot, 'id' | 'fields'>): readonly string[] {
  return [...new Set(fields.flatMap(({ refersTo }) => (refersTo === undefined || refersTo === id ? [] : [refersTo])))];
}

/**
 * Knots in the order in which they run together: what is referred to comes before what refers to it (Tarjan 1976,
 * Edge-disjoint spanning trees and depth-first search: the order in which a depth-first walk leaves them). In a circle
 * one has to come first; nobody waits for what comes later. The order depends on the ids alone.
 */
export function knotOrder(knots: readonly Pick<Knot, 'id' | 'fields'>[]): readonly OrderedKnot[] {
  const byId = new Map(knots.map((knot) => [knot.id, knot]));
  const ordered: OrderedKnot[] = [];
  const placed = new Set<string>();
  const underWay = new Set<string>();
  const visit = (id: string): void => {
    const knot = byId.get(id);
    if (!knot || underWay.has(id)) return;
    underWay.add(id);
    const referred = referredKnots(knot).toSorted();
    referred.forEach(visit);
    ordered.push({ id, after: referred.filter((one) => placed.has(one)) });
    placed.add(id);
  };
  [...byId.keys()].sort().forEach(visit);
  return ordered;
}
