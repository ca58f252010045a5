import { BlockIndex } from './blocking.js';
import { type EvidenceColumn, levelBase, levelsOf, type PatternCode, patternOf } from './evidence.js';
import type { Frequencies } from './score.js';
import type { PatternCounts } from './weights.js';

/** Candidate pairs of a range of left records that agree on something, with their patterns; columns of equal length. */
export interface ComparedPairs {
  /** How many pairs were compared. */
  readonly compared: number;
  readonly patterns: PatternCounts;
  readonly left: Int32Array;
  readonly right: Int32Array;
  readonly codes: Float64Array;
  /** By pair and field: how many records of both sides have the value, where it is the same; otherwise 0. */
  readonly frequencies: Int32Array;
}

/** Pairs that agree in less than this are forgotten once they are counted: no weights could make them likely. */
const leastAgreement = 2;

/**
 * Compares the candidates of the left records from one place to another. What is kept of a pair is its pattern, so that it can
 * be scored with weights that are not known yet.
 * @param within whether both sides are the same records: each pair comes once, and no record with itself
 */
export function comparePairs(
  left: readonly EvidenceColumn[],
  index: BlockIndex,
  frequencies: readonly Frequencies[],
  { from, to, within = false }: { readonly from: number; readonly to: number; readonly within?: boolean },
): ComparedPairs {
  const right = index.columns;
  const candidates = new Int32Array(index.mostCandidates);
  const patterns: PatternCounts = new Map();
  const keeps = new Map<PatternCode, boolean>();
  const rows: { left: number[]; right: number[]; codes: number[]; frequencies: number[] } = { left: [], right: [], codes: [], frequencies: [] };
  let compared = 0;
  for (let i = from; i < to; i += 1) {
    const count = index.candidates(left, i, candidates);
    for (let at = 0; at < count; at += 1) {
      const j = candidates[at] as number;
      if (within && j <= i) continue;
      const code = patternOf(left, i, right, j);
      compared += 1;
      patterns.set(code, (patterns.get(code) ?? 0) + 1);
      let isKept = keeps.get(code);
      if (isKept === undefined) {
        isKept = agreement(code, left) >= leastAgreement;
        keeps.set(code, isKept);
      }
      if (!isKept) continue;
      rows.left.push(i);
      rows.right.push(j);
      rows.codes.push(code);
      for (let rest = code, field = 0; field < left.length; field += 1) {
        const digit = rest % levelBase;
        rest = (rest - digit) / levelBase;
        const { comparison, values } = left[field] as EvidenceColumn;
        rows.frequencies.push(digit === comparison.levels.length ? (frequencies[field]?.get(values[i]?.form ?? '') ?? 0) : 0);
      }
    }
  }
  return {
    compared,
    patterns,
    left: Int32Array.from(rows.left),
    right: Int32Array.from(rows.right),
    codes: Float64Array.from(rows.codes),
    frequencies: Int32Array.from(rows.frequencies),
  };
}

/** A whole agreement counts two, half of one counts one, and each difference takes one half. */
function agreement(code: PatternCode, columns: readonly EvidenceColumn[]): number {
  return levelsOf(code, columns.length).reduce<number>((sum, level, field) => {
    if (level === undefined) return sum;
    const top = (columns[field]?.comparison.levels.length ?? 2) - 1;
    return sum + (level === 0 ? -0.5 : level === top ? 2 : 1);
  }, 0);
}
