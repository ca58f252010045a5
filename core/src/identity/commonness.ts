import type { Commonness, ValueShares } from '../definition/index.js';
import type { EvidenceColumn } from './evidence.js';
import { fnv1a } from './fnv.js';

const mostListed = 500;
const leastListed = 3;
const least = 1e-9;

export function commonnessOf(share: number): Commonness {
  return Math.round(100 * Math.log2(Math.max(least, share)));
}

/** Learns which values of a field are common. The commonest are listed; all of equal count, or none. */
export function learnShares({ values }: EvidenceColumn): ValueShares {
  const counts = new Map<string, number>();
  let total = 0;
  for (const value of values) {
    if (value === undefined) continue;
    total += 1;
    counts.set(value.form, (counts.get(value.form) ?? 0) + 1);
  }
  const sorted = [...counts.values()].sort((a, b) => b - a);
  const limit = Math.max(leastListed, (sorted[mostListed] ?? 0) + 1);
  const common: Record<string, Commonness> = {};
  let [pairs, records] = [0, 0];
  for (const [form, count] of counts) {
    if (count >= limit) common[formHash(form)] = commonnessOf(count / total);
    else {
      pairs += count * count;
      records += count;
    }
  }
  // Two records that agree have the value both: it is there at least twice.
  const average = Math.max(2, pairs / Math.max(1, records));
  return { common, rare: commonnessOf(average / Math.max(2, total)) };
}

const formHash = (form: string): string => (fnv1a(form) >>> 0).toString(36);

/** Looks values up, and remembers what it has looked up. */
export class ShareTable {
  readonly #shares: ValueShares;
  readonly #known = new Map<string, Commonness>();

  constructor(shares: ValueShares) {
    this.#shares = shares;
  }

  of(form: string): Commonness {
    let known = this.#known.get(form);
    if (known === undefined) {
      known = this.#shares.common[formHash(form)] ?? this.#shares.rare;
      this.#known.set(form, known);
    }
    return known;
  }
}
