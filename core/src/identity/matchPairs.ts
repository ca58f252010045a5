import type { Commonness } from '../definition/index.js';
import type { BlockIndex } from './blocking.js';
import type { ShareTable } from './commonness.js';
import { type EvidenceColumn, levelBase, levelsOf, type PatternCode, patternOf } from './evidence.js';
import type { PatternCounts } from './weights.js';

/** What is compared: the records of all members in one list, and where candidates are found. */
export interface Comparing {
  readonly columns: readonly EvidenceColumn[];
  /** The member of each record, by its place in the order of members. */
  readonly memberOf: ArrayLike<number>;
  /** The newcomers of each member, by what they share. */
  readonly indexes: readonly BlockIndex[];
  /** Other records of each member that are only compared with. */
  readonly others?: readonly BlockIndex[] | undefined;
  /** Whether records of one member are compared with each other. */
  readonly withinMembers: boolean;
  /** Records known from before that are candidates for a newcomer. */
  readonly known?: ((record: number) => ArrayLike<number>) | undefined;
  readonly shares: readonly ShareTable[];
}

/** Candidate pairs that agree on something, with their patterns; columns of equal length. */
export interface ComparedPairs {
  /** How many pairs were compared. */
  readonly compared: number;
  /** How many pairs of two members have each pattern, and how many of one member. */
  readonly patterns: PatternCounts;
  readonly patternsWithin: PatternCounts;
  readonly left: Int32Array;
  readonly right: Int32Array;
  readonly codes: Float64Array;
  /** By pair and field: how common the value is, where it is the same; otherwise 0. */
  readonly common: Int16Array;
}

/** Pairs that agree in less than this are forgotten once they are counted: no weights could make them likely. */
const leastAgreement = 1.5;

/**
 * Compares the candidates of some newcomers, from one place to another. What is kept of a pair is its pattern, so that
 * it
 * can be scored with weights that are not known yet. Each pair of newcomers comes once: a record looks for those of
 * members
 * after its own, and of its own member for those after itself.
 */
export function comparePairs(comparing: Comparing, from: number, to: number): ComparedPairs {
  const { columns, memberOf, indexes, others = [], withinMembers, known, shares } = comparing;
  const candidates = new Int32Array(
    Math.max(0, ...[...indexes, ...others].map(({ mostCandidates }) => mostCandidates)),
  );
  const patterns: PatternCounts = new Map();
  const patternsWithin: PatternCounts = new Map();
  const keeps = new Map<PatternCode, boolean>();
  const rows: { left: number[]; right: number[]; codes: number[]; common: number[] } = {
    left: [],
    right: [],
    codes: [],
    common: [],
  };
  let compared = 0;
  const compare = (i: number, j: number): void => {
    const code = patternOf(columns, i, j);
    compared += 1;
    const counts = memberOf[i] === memberOf[j] ? patternsWithin : patterns;
    counts.set(code, (counts.get(code) ?? 0) + 1);
    let isKept = keeps.get(code);
    if (isKept === undefined) {
      isKept = agreement(code, columns) >= leastAgreement;
      keeps.set(code, isKept);
    }
    if (!isKept) return;
    rows.left.push(i);
    rows.right.push(j);
    rows.codes.push(code);
    for (let rest = code, field = 0; field < columns.length; field += 1) {
      const digit = rest % levelBase;
      rest = (rest - digit) / levelBase;
      rows.common.push(commonnessAt(columns, shares, field, digit, i));
    }
  };
  for (let i = from; i < to; i += 1) {
    const own = memberOf[i] as number;
    for (let member = withinMembers ? own : own + 1; member < indexes.length; member += 1) {
      const count = (indexes[member] as BlockIndex).candidates(i, candidates);
      for (let at = 0; at < count; at += 1) {
        const j = candidates[at] as number;
        if (member !== own || j > i) compare(i, j);
      }
    }
    for (const [member, index] of others.entries()) {
      if (member === own && !withinMembers) continue;
      const count = index.candidates(i, candidates);
      for (let at = 0; at < count; at += 1) compare(i, candidates[at] as number);
    }
    const before = known?.(i);
    for (let at = 0; at < (before?.length ?? 0); at += 1) {
      const j = before?.[at] as number;
      if (withinMembers || memberOf[j] !== own) compare(i, j);
    }
  }
  return {
    compared,
    patterns,
    patternsWithin,
    left: Int32Array.from(rows.left),
    right: Int32Array.from(rows.right),
    codes: Float64Array.from(rows.codes),
    common: Int16Array.from(rows.common),
  };
}

/** How common the value of a record is, where a pair agrees on it wholly. */
export function commonnessAt(
  columns: readonly EvidenceColumn[],
  shares: readonly ShareTable[],
  field: number,
  digit: number,
  record: number,
): Commonness {
  const { comparison, values } = columns[field] as EvidenceColumn;
  return digit === comparison.levels.length ? (shares[field] as ShareTable).of(values[record]?.form ?? '') : 0;
}

/**
 * A whole agreement counts two, nearly one counts one and a half, less counts one, and each difference takes one half.
 */
function agreement(code: PatternCode, columns: readonly EvidenceColumn[]): number {
  return levelsOf(code, columns.length).reduce<number>((sum, level, field) => {
    if (level === undefined) return sum;
    const top = (columns[field]?.comparison.levels.length ?? 2) - 1;
    return sum + (level === 0 ? -0.5 : level === top ? 2 : level === top - 1 ? 1.5 : 1);
  }, 0);
}
