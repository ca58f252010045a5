import type { Commonness, EvidenceField, LevelWeights, ValueShares, Weights } from '../definition/index.js';
import { bestAndBeaten, type ScoredPair } from './chooseTies.js';
import { ShareTable } from './commonness.js';
import { type EvidenceTexts, levelBase, patternOf, prepareColumns } from './evidence.js';
import { commonnessAt, type ComparedPairs } from './matchPairs.js';
import { learnRelated } from './related.js';
import { type Score, Scorer } from './score.js';
import type { Steps } from './steps.js';
import { learnWeights, type PatternCounts } from './weights.js';

/** Pairs below are of no use: nobody would want to be asked about one in a thousand. In bits. */
export const leastBits = -10;
/** Pairs below this need no related records to be left out. In bits. */
const leastRelated = -4;
/** How often weights are learned anew from the pairs that are the best of both their records. */
const roundsOnBest = 3;

/** A likely pair, with how it compares. */
interface PlacedPair extends ScoredPair {
  readonly code: number;
}

/** What is true of any records, whether they are the same thing or not. */
export interface AnyRecords {
  /** How often each level comes among any two records, by field (from `sampleAnyPairs`). */
  readonly anyPairs: readonly (readonly number[])[];
  /** How common values are, by field. */
  readonly shares: readonly ValueShares[];
}

/**
 * Learns weights from pairs that were compared: first from all, then from those that are the best of both their
 * records.
 * Learned is from pairs of two members; from pairs of one member only where there is no other.
 * @param sizes how many records each member has
 */
export function* learnFromPairs(
  evidence: readonly EvidenceField[],
  parts: readonly ComparedPairs[],
  memberOf: ArrayLike<number>,
  { anyPairs, shares }: AnyRecords,
  sizes: readonly number[],
): Steps<Weights> {
  const isOne = sizes.filter((size) => size > 0).length < 2;
  const counts: PatternCounts = new Map();
  for (const part of parts)
    for (const [code, count] of isOne ? part.patternsWithin : part.patterns)
      counts.set(code, (counts.get(code) ?? 0) + count);
  const { pairs, expected } = howMany(sizes, isOne);
  const learn = (from: PatternCounts): Weights<LevelWeights> => learnWeights(evidence, from, anyPairs, pairs, expected);
  let weights = withShares(learn(counts), shares);
  for (let round = 0; round < roundsOnBest; round += 1) {
    // By what speaks for them alone: related records are learned from as well.
    const scored = yield* scoredPairs(evidence, { ...weights, related: undefined }, parts, leastRelated);
    const likely = scored.filter(({ left, right }) => isOne || memberOf[left] !== memberOf[right]);
    const { best, beaten } = bestAndBeaten(
      likely.filter(({ bits }) => bits >= 0),
      likely,
      (record) => memberOf[record] ?? 0,
    );
    if (best.length === 0) break;
    const counted = patternCounts(best);
    const learned = learn(counted);
    // Within one member a thing may have several records: who was beaten may be the same all the same.
    weights = withShares(
      isOne ? learned : learnRelated(evidence, learned, counted, patternCounts(beaten), pairs),
      shares,
    );
  }
  return weights;
}

function patternCounts(pairs: readonly PlacedPair[]): PatternCounts {
  const counts: PatternCounts = new Map();
  for (const { code } of pairs) counts.set(code, (counts.get(code) ?? 0) + 1);
  return counts;
}

/** How many pairs there are, and how many of them are thought to be the same thing before anything is learned. */
function howMany(sizes: readonly number[], isOne: boolean): { readonly pairs: number; readonly expected: number } {
  const all = sizes.reduce((sum, size) => sum + size, 0);
  if (isOne) return { pairs: (all * (all - 1)) / 2, expected: all / 2 };
  let [pairs, expected] = [0, 0];
  for (const [index, size] of sizes.entries()) {
    for (const other of sizes.slice(index + 1)) {
      pairs += size * other;
      expected += Math.min(size, other) / 2;
    }
  }
  return { pairs, expected };
}

const withShares = ({ fields, prior, related }: Weights<LevelWeights>, shares: readonly ValueShares[]): Weights => ({
  prior,
  ...(related ? { related } : {}),
  fields: fields.map((field, index) => ({ ...field, ...(shares[index] as ValueShares) })),
});

function* scoredPairs(
  evidence: readonly EvidenceField[],
  weights: Weights,
  parts: readonly ComparedPairs[],
  least: number,
): Steps<PlacedPair[]> {
  const scorer = new Scorer(evidence, weights);
  const scored: PlacedPair[] = [];
  for (const { left, right, codes, common } of parts) {
    for (let at = 0; at < left.length; at += 1) {
      const code = codes[at] as number;
      const bits = scorer.bits(code, (field) => common[at * evidence.length + field] ?? 0);
      if (bits >= least) scored.push({ left: left[at] as number, right: right[at] as number, bits, code });
    }
    yield;
  }
  return scored;
}

/** The pairs that are likely under some weights; and the score of any two records, likely or not. */
export class LikelyPairs {
  readonly pairs: readonly ScoredPair[];
  readonly #evidence: readonly EvidenceField[];
  readonly #texts: readonly EvidenceTexts[];
  readonly #scorer: Scorer;
  readonly #shares: readonly ShareTable[];

  private constructor(
    evidence: readonly EvidenceField[],
    weights: Weights,
    texts: readonly EvidenceTexts[],
    pairs: readonly ScoredPair[],
  ) {
    this.#evidence = evidence;
    this.#texts = texts;
    this.#scorer = new Scorer(evidence, weights);
    this.#shares = weights.fields.map((shares) => new ShareTable(shares));
    this.pairs = pairs;
  }

  /** @param least pairs with a lower score are left out */
  static *of(
    evidence: readonly EvidenceField[],
    weights: Weights,
    texts: readonly EvidenceTexts[],
    parts: readonly ComparedPairs[],
    least: number,
  ): Steps<LikelyPairs> {
    return new LikelyPairs(evidence, weights, texts, yield* scoredPairs(evidence, weights, parts, least));
  }

  explain(a: number, b: number): Score {
    const columns = prepareColumns(this.#evidence, [this.#texts[a] ?? [], this.#texts[b] ?? []]);
    const code = patternOf(columns, 0, 1);
    const digits = Array.from(this.#evidence, (_, field) => Math.floor(code / levelBase ** field) % levelBase);
    return this.#scorer.explain(code, (field): Commonness =>
      commonnessAt(columns, this.#shares, field, digits[field] as number, 0),
    );
  }

  /** What the fields say for it, without what was known before. */
  forAndAgainst(a: number, b: number): number {
    const { bits, prior, related } = this.explain(a, b);
    return bits - prior - related;
  }
}
