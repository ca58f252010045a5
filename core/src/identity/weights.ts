import type { LevelWeights, Weights } from '../definition/index.js';
import type { EvidenceField } from '../definition/index.js';
import { comparisonOf } from './comparison.js';
import { type EvidenceColumn, levelsOf, type PatternCode, patternOf } from './evidence.js';

/** How many pairs of each pattern there are. */
export type PatternCounts = Map<PatternCode, number>;

const roundsOfLearning = 60;
const settled = 1e-5;

/**
 * How often each level comes among any two records, one of each side (places in the columns), from a sample of pairs
 * that is spread evenly and the same each time.
 * Values that came too rarely to be seen are thought to come half a time.
 */
export function sampleAnyPairs(
  columns: readonly EvidenceColumn[],
  lefts: ArrayLike<number>,
  rights: ArrayLike<number>,
  sample = 200_000,
): number[][] {
  const counts = columns.map(({ comparison }) => new Array<number>(comparison.levels.length).fill(0));
  const total = lefts.length * rights.length;
  const taken = Math.min(total, sample);
  // Steps of an irrational share of the whole fall everywhere and repeat nothing (Weyl 1916, the golden ratio).
  const step = total <= sample ? 1 : total * 0.6180339887498949;
  for (let number = 0, at = 0; number < taken; number += 1, at = (at + step) % total) {
    const place = Math.floor(at);
    const [left = 0, right = 0] = [lefts[Math.floor(place / rights.length)], rights[place % rights.length]];
    if (left === right) continue;
    const code = patternOf(columns, left, right);
    for (const [field, level] of levelsOf(code, columns.length).entries())
      if (level !== undefined) (counts[field] as number[])[level] = ((counts[field] as number[])[level] ?? 0) + 1;
  }
  return counts;
}

/** The shares from counts, with half a time for what never came. */
export function shares(counts: readonly number[]): number[] {
  const total = counts.reduce((sum, count) => sum + count, 0) + counts.length / 2;
  return counts.map((count) => (count + 0.5) / total);
}

/** Where learning begins: most pairs that are the same thing agree, and few differ. */
function firstM(levels: number): number[] {
  const rest = 0.15 / (levels - 1);
  return Array.from({ length: levels }, (_, level) => (level === levels - 1 ? 0.85 : rest));
}

/**
 * Learns `m` and the prior from the data by expectation-maximisation (Winkler 1988, Using the EM algorithm for weight
 * computation in the Fellegi-Sunter model of record linkage), on the patterns of the candidate pairs. `u` is not
 * learned
 * from candidates: they were chosen because they agree on something.
 * @param counts how many candidate pairs have each pattern
 * @param anyPairs counts of levels among any two records, by field
 * @param pairs how many pairs there are in all
 */
export function learnWeights(
  evidence: readonly EvidenceField[],
  counts: PatternCounts,
  anyPairs: readonly (readonly number[])[],
  pairs: number,
  expected: number,
): Weights<LevelWeights> {
  const u = anyPairs.map(shares);
  const patterns = [...counts].map(([code, count]) => ({ levels: levelsOf(code, evidence.length), count }));
  let weights: Weights<LevelWeights> = {
    fields: evidence.map(({ compare }, field) => ({
      m: firstM(comparisonOf(compare).levels.length),
      u: u[field] ?? [],
    })),
    prior: Math.min(0.5, Math.max(1e-9, expected / Math.max(1, pairs))),
  };
  for (let round = 0; round < roundsOfLearning; round += 1) {
    const before = weights;
    const matches = patterns.map(({ levels, count }) => ({
      levels,
      count: probabilityOf(bitsOf(before, levels)) * count,
    }));
    const m = levelShares(before, matches);
    const learned: Weights<LevelWeights> = {
      fields: before.fields.map(({ u: any }, field) => ({ m: m[field] ?? [], u: any })),
      prior: shareOf(matches, pairs),
    };
    const moved = Math.max(
      ...learned.fields.flatMap(({ m }, field) =>
        m.map((share, level) => Math.abs(share - (weights.fields[field]?.m[level] ?? 0))),
      ),
      0,
    );
    weights = learned;
    if (moved < settled) break;
  }
  return weights;
}

/**
 * Pairs that have the same levels, and how many of them there are; a part of one counts as far as it belongs to a
 * class.
 */
export interface CountedLevels {
  readonly levels: readonly (number | undefined)[];
  readonly count: number;
}

/** How often each level comes in some pairs, by field. */
export function levelShares({ fields }: Weights<LevelWeights>, pairs: readonly CountedLevels[]): number[][] {
  const sums = fields.map(({ m }) => m.map(() => 0));
  for (const { levels, count } of pairs)
    for (const [field, level] of levels.entries())
      if (level !== undefined) (sums[field] as number[])[level] = ((sums[field] as number[])[level] ?? 0) + count;
  return sums.map(smoothed);
}

/** The share of all pairs that some are. A class is never impossible, and never more than half. */
export function shareOf(some: readonly CountedLevels[], pairs: number): number {
  return Math.min(0.5, Math.max(1e-12, some.reduce((sum, { count }) => sum + count, 0) / Math.max(1, pairs)));
}

/** No level is impossible, and none certain: a share is at least a thousandth. */
function smoothed(counts: readonly number[]): number[] {
  const total = counts.reduce((sum, count) => sum + count, 0);
  const raw = counts.map((count) => Math.max(0.001, total === 0 ? 1 / counts.length : count / total));
  const sum = raw.reduce((all, share) => all + share, 0);
  return raw.map((share) => share / sum);
}

/** Bits for a match, without regard to which values agree. */
function bitsOf({ fields, prior }: Weights<LevelWeights>, levels: readonly (number | undefined)[]): number {
  let bits = Math.log2(prior / (1 - prior));
  for (const [field, level] of levels.entries()) {
    const { m = [], u = [] } = fields[field] ?? {};
    if (level !== undefined) bits += Math.log2((m[level] ?? 1) / (u[level] ?? 1));
  }
  return bits;
}

/** The probability of a match from its bits. */
export function probabilityOf(bits: number): number {
  return 1 / (1 + 2 ** -bits);
}
