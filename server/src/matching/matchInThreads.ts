import { availableParallelism } from 'node:os';
import {
  chooseTies,
  type ComparedPairs,
  type JudgedPair,
  learnWeights,
  mutualBest,
  mostEvidenceFields,
  type PatternCounts,
  type Score,
  Scorer,
  type ScoredPair,
  type Thresholds,
  type Weights,
} from '@anchor-knot/core';
import { Piscina } from 'piscina';
import type { AnyPairs, MatchJob, MatchRange } from './job.js';

/** In bits: a tie at 32 to one, a question from one to four. */
export const defaultThresholds: Thresholds = { upper: 5, lower: -2 };

const inOneRange = 1000;
/** Starting threads and handing them the records costs more than comparing so few. */
const worthThreads = 2000;

export interface MatchOptions extends MatchJob {
  readonly thresholds?: Thresholds | undefined;
  /** Weights that were learned before, or set by a person; otherwise they are learned from the data. */
  readonly weights?: Weights | undefined;
  readonly signal?: AbortSignal | undefined;
  readonly onProgress?: ((done: number, total: number) => void) | undefined;
}

export interface MatchResult {
  /** Tied and asked, the best first. */
  readonly pairs: readonly JudgedPair[];
  /** All pairs at or above the lower threshold, chosen or not. */
  readonly likely: readonly ScoredPair[];
  readonly weights: Weights;
  /** How many candidate pairs were compared. */
  readonly compared: number;
  /** Takes the score of a likely pair apart. */
  explain(pair: ScoredPair): Score;
}

/**
 * Matches two lists, or one with itself, by evidence: candidates are compared in threads, weights are learned from how they compare,
 * then pairs are scored and chosen. The same lists give the same result, whatever the number of threads.
 * @throws when the signal is aborted
 */
export async function matchInThreads({ evidence, left, right, thresholds = defaultThresholds, weights: known, signal, onProgress }: MatchOptions): Promise<MatchResult> {
  if (evidence.length === 0 || evidence.length > mostEvidenceFields) throw new RangeError(`evidence has 1 to ${mostEvidenceFields} fields`);
  const threads = left.length < worthThreads ? 1 : availableParallelism();
  const pool = new Piscina<MatchRange | undefined, ComparedPairs | AnyPairs>({
    filename: new URL('./matchWorker.js', import.meta.url).href,
    workerData: { evidence, left, right } satisfies MatchJob,
    minThreads: threads,
    maxThreads: threads,
  });
  try {
    const options = { ...(signal ? { signal } : {}) };
    const ranges: MatchRange[] = [];
    for (let from = 0; from < left.length; from += inOneRange) ranges.push({ from, to: Math.min(left.length, from + inOneRange) });
    let done = 0;
    const [anyPairs, ...parts] = (await Promise.all([
      pool.run(undefined, { ...options, name: 'sample' }),
      ...ranges.map(async (range) => {
        const part = (await pool.run(range, { ...options, name: 'compareRange' })) as ComparedPairs;
        onProgress?.((done += range.to - range.from), left.length);
        return part;
      }),
    ])) as [AnyPairs, ...ComparedPairs[]];
    return conclude({ evidence, left, right }, anyPairs, parts, thresholds, known);
  } finally {
    await pool.destroy();
  }
}

/** How often weights are learned anew from the pairs that are the best of both their records. */
const roundsOnBest = 3;

function conclude(
  { evidence, left, right }: MatchJob,
  { counts, totals }: AnyPairs,
  parts: readonly ComparedPairs[],
  thresholds: Thresholds,
  known: Weights | undefined,
): MatchResult {
  const patterns: PatternCounts = new Map();
  for (const part of parts) for (const [code, count] of part.patterns) patterns.set(code, (patterns.get(code) ?? 0) + count);
  const rights = right?.length ?? left.length;
  const pairs = right ? left.length * rights : (left.length * (left.length - 1)) / 2;
  const learn = (from: PatternCounts): Weights => learnWeights(evidence, from, counts, pairs, Math.min(left.length, rights) / 2);
  let weights = known ?? learn(patterns);
  for (let round = 0; round < roundsOnBest && !known; round += 1) {
    const best: PatternCounts = new Map();
    for (const { code } of mutualBest(scoredPairs(evidence, weights, totals, parts, thresholds.lower))) best.set(code, (best.get(code) ?? 0) + 1);
    if (best.size === 0) break;
    weights = learn(best);
  }
  const likely = scoredPairs(evidence, weights, totals, parts, thresholds.lower);
  const scorer = new Scorer(evidence, weights, totals);
  const placeOf = new Map(likely.map((pair) => [`${pair.left}/${pair.right}`, pair]));
  return {
    pairs: chooseTies(likely, thresholds),
    likely,
    weights,
    compared: parts.reduce((sum, part) => sum + part.compared, 0),
    explain(pair) {
      const place = placeOf.get(`${pair.left}/${pair.right}`);
      if (!place) throw new RangeError('this pair is not likely');
      return scorer.explain(place.code, frequencyIn(evidence.length, place.part, place.at));
    },
  };
}

/** A scored pair, and where it stands among what was compared. */
interface PlacedPair extends ScoredPair {
  readonly code: number;
  readonly part: ComparedPairs;
  readonly at: number;
}

function scoredPairs(evidence: MatchJob['evidence'], weights: Weights, totals: readonly number[], parts: readonly ComparedPairs[], least: number): PlacedPair[] {
  const scorer = new Scorer(evidence, weights, totals);
  const scored: PlacedPair[] = [];
  for (const part of parts) {
    for (const [at, left] of part.left.entries()) {
      const code = part.codes[at] as number;
      const bits = scorer.bits(code, frequencyIn(evidence.length, part, at));
      if (bits >= least) scored.push({ left, right: part.right[at] as number, bits, code, part, at });
    }
  }
  return scored;
}

function frequencyIn(fields: number, { frequencies }: ComparedPairs, at: number): (field: number) => number {
  return (field) => frequencies[at * fields + field] ?? 0;
}
