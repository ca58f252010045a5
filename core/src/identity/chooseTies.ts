import type { Thresholds } from '../definition/index.js';
import { bestAssignment } from '../assignment/index.js';

export interface ScoredPair {
  readonly left: number;
  readonly right: number;
  readonly bits: number;
}

/** Where nobody has chosen: a tie at eight to one, a question from one to two. */
export const defaultThresholds: Thresholds = { upper: 3, lower: -1 };

export type Judgement = 'tied' | 'asked';

export interface JudgedPair extends ScoredPair {
  readonly judgement: Judgement;
  /** Why a person is asked although the score is high enough. */
  readonly rival?: number | undefined;
}

/** A rival that is worse by less than this leaves a doubt. In bits. */
const nearTie = 3;
/** Components of more records are assigned pair by pair, best first: their exact assignment would take too long. */
const mostExact = 300;

/**
 * Chooses which pairs are tied: the one-to-one assignment of greatest total weight among the pairs above the lower
 * threshold, in each group of records that such pairs connect. A pair whose record has another partner that is nearly
 * as good is for a
 * person, however high its score. The outcome does not depend on the order of the pairs.
 */
export function chooseTies(pairs: readonly ScoredPair[], { upper, lower }: Thresholds): JudgedPair[] {
  const likely = pairs.filter(({ bits }) => bits >= lower).toSorted(byScore);
  const chosen = components(likely)
    .flatMap((group) => assigned(group, lower))
    .toSorted(byScore);
  const best = new Map<string, ScoredPair[]>();
  for (const pair of likely) {
    for (const name of [`l${pair.left}`, `r${pair.right}`]) {
      const own = best.get(name);
      if (!own) best.set(name, [pair]);
      else if (own.length < 2) own.push(pair);
    }
  }
  return chosen.map((pair): JudgedPair => {
    const rivals = [...(best.get(`l${pair.left}`) ?? []), ...(best.get(`r${pair.right}`) ?? [])].filter(
      (other) => other.left !== pair.left || other.right !== pair.right,
    );
    const rival = Math.max(...rivals.map(({ bits }) => bits), -Infinity);
    if (pair.bits < upper) return { ...pair, judgement: 'asked' };
    return pair.bits - rival < nearTie ? { ...pair, judgement: 'asked', rival } : { ...pair, judgement: 'tied' };
  });
}

/**
 * The pairs that are the best one of both their records, among those with the same other member; and pairs that were
 * clearly beaten by such a one. A thing has at most one record in each member, so the first are where weights can be
 * learned, and the others are not the same thing: people of one household agree in much, but each has a better partner.
 * @param likely pairs that may be the best
 * @param all those, and others that may be beaten
 */
export function bestAndBeaten<Pair extends ScoredPair>(
  likely: readonly Pair[],
  all: readonly Pair[],
  memberOf: (record: number) => number,
): { readonly best: Pair[]; readonly beaten: Pair[] } {
  const bestOf = new Map<string, Pair>();
  const names = ({ left, right }: Pair): [string, string] => [
    `${left}/${memberOf(right)}`,
    `${right}/${memberOf(left)}`,
  ];
  for (const pair of likely) {
    for (const name of names(pair)) {
      const there = bestOf.get(name);
      if (!there || byScore(pair, there) < 0) bestOf.set(name, pair);
    }
  }
  const isBest = (pair: Pair): boolean => names(pair).every((name) => bestOf.get(name) === pair);
  const best = likely.filter(isBest);
  const winners = new Map(best.flatMap((pair) => names(pair).map((name) => [name, pair] as const)));
  return {
    best,
    beaten: all.filter((pair) =>
      names(pair).some((name) => (winners.get(name)?.bits ?? -Infinity) >= pair.bits + nearTie),
    ),
  };
}

function byScore(a: ScoredPair, b: ScoredPair): number {
  return b.bits - a.bits || a.left - b.left || a.right - b.right;
}

/** Groups of pairs that no record connects. */
function components(pairs: readonly ScoredPair[]): ScoredPair[][] {
  const parents = new Map<string, string>();
  const rootOf = (name: string): string => {
    let root = name;
    for (let parent = parents.get(root); parent !== undefined; parent = parents.get(root)) root = parent;
    for (let at = name; at !== root;) {
      const next = parents.get(at) as string;
      parents.set(at, root);
      at = next;
    }
    return root;
  };
  for (const { left, right } of pairs) {
    const [a, b] = [rootOf(`l${left}`), rootOf(`r${right}`)];
    if (a !== b) parents.set(a, b);
  }
  const groups = new Map<string, ScoredPair[]>();
  for (const pair of pairs) {
    const root = rootOf(`l${pair.left}`);
    const group = groups.get(root);
    if (group) group.push(pair);
    else groups.set(root, [pair]);
  }
  return [...groups.values()];
}

function assigned(group: readonly ScoredPair[], lower: number): ScoredPair[] {
  if (group.length === 1) return [...group];
  const lefts = [...new Set(group.map(({ left }) => left))].sort((a, b) => a - b);
  const rights = [...new Set(group.map(({ right }) => right))].sort((a, b) => a - b);
  if (lefts.length + rights.length > mostExact) return bestFirst(group);
  const at = new Map(group.map((pair) => [`${pair.left}/${pair.right}`, pair]));
  // A pair at the lower threshold is still better than none; so weights begin above zero.
  const partners = bestAssignment(
    lefts.map((left) =>
      rights.map((right) => {
        const pair = at.get(`${left}/${right}`);
        return pair ? pair.bits - lower + 0.01 : 0;
      }),
    ),
  );
  return partners.flatMap((partner, index) => at.get(`${lefts[index]}/${rights[partner]}`) ?? []);
}

function bestFirst(group: readonly ScoredPair[]): ScoredPair[] {
  const [lefts, rights] = [new Set<number>(), new Set<number>()];
  return group.toSorted(byScore).filter(({ left, right }) => {
    if (lefts.has(left) || rights.has(right)) return false;
    lefts.add(left);
    rights.add(right);
    return true;
  });
}
