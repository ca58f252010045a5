import type { Thresholds } from '../definition/index.js';
import { chooseTies, type ScoredPair } from './chooseTies.js';
import { inOneStep, type Steps } from './steps.js';

/** Records of one thing: those of an anchor, or newcomers that key rules have put together. */
export interface KnownUnit {
  readonly records: readonly number[];
  /** Members in which it has a record, also one that is gone or is not compared. */
  readonly taken: ReadonlySet<number>;
}

/** What is matched by evidence. Records are places in the list that was compared, members places in their order. */
export interface EvidenceCase {
  readonly memberOf: (record: number) => number;
  readonly members: number;
  /** Records that no key has tied, in an order that does not depend on how they were read. */
  readonly newcomers: readonly number[];
  readonly units: readonly KnownUnit[];
  readonly pairs: readonly ScoredPair[];
  /** The score of any two records without the prior: below zero, more speaks against than for it. */
  readonly forAndAgainst: (a: number, b: number) => number;
  readonly thresholds: Thresholds;
  /** Whether a person has said that two records are not the same thing. */
  readonly areDifferent: (a: number, b: number) => boolean;
}

/** A unit that a record may belong to, and the record in it that is the most like it. */
export interface Candidate {
  readonly unit: number;
  readonly bits: number;
  readonly with: number;
}

export type EvidenceDoubt =
  /** A record that may belong to one of the units. */
  | { readonly kind: 'unsure'; readonly record: number; readonly candidates: readonly Candidate[] }
  /** Records of one member that are like each other, or like the one that is tied already. */
  | {
      readonly kind: 'duplicates';
      readonly records: readonly number[];
      readonly tied: number | undefined;
      readonly unit: number | undefined;
      readonly bits: number;
    };

/** The pair that was looked at for a newcomer, whether it was tied or not. */
export interface ConsideredPair {
  readonly record: number;
  readonly with: number;
  readonly bits: number;
  /**
   * Another is nearly as good, or another record of the unit speaks against it: a person is asked however high the
   * score is.
   */
  readonly isDisputed: boolean;
}

export interface EvidenceOutcome {
  /** All units: those given, with what joined them, and new ones. */
  readonly units: readonly { readonly records: readonly number[]; readonly waits: boolean }[];
  /** Which newcomers joined a unit, and by which pair. */
  readonly joined: readonly ConsideredPair[];
  readonly doubts: readonly EvidenceDoubt[];
  readonly considered: readonly ConsideredPair[];
}

interface Unit {
  readonly index: number;
  readonly records: number[];
  readonly taken: Set<number>;
  /** What is in it waits for a person; so does what joins it. */
  waits: boolean;
}

const mostCandidates = 5;

/**
 * Puts records of any number of members together by the scores of their pairs. One member after another: its newcomers
 * are
 * assigned to the units that there are, one to one; what is left begins units of its own. A record is as like a unit as
 * it
 * is like the record in it that it is most like; but where the evidence of another one of its records speaks against
 * it, it
 * is asked about, so that unlike records are not chained together.
 */
export function* matchByEvidence(matching: EvidenceCase): Steps<EvidenceOutcome> {
  return yield* new EvidencePass(matching).run();
}

class EvidencePass {
  readonly #case: EvidenceCase;
  readonly #units: Unit[];
  readonly #unitOf = new Map<number, Unit>();
  readonly #alike = new Map<number, { readonly record: number; readonly bits: number }[]>();
  readonly #joined: ConsideredPair[] = [];
  readonly #doubts: EvidenceDoubt[] = [];
  readonly #considered: ConsideredPair[] = [];

  constructor(matching: EvidenceCase) {
    this.#case = matching;
    this.#units = matching.units.map(({ records, taken }, index) => ({
      index,
      records: [...records],
      taken: new Set(taken),
      waits: false,
    }));
    for (const unit of this.#units) for (const record of unit.records) this.#unitOf.set(record, unit);
  }

  *run(): Steps<EvidenceOutcome> {
    for (const [at, { left, right, bits }] of this.#case.pairs.entries()) {
      if (at % inOneStep === 0) yield;
      this.#note(left, right, bits);
      this.#note(right, left, bits);
    }
    for (let member = 0; member < this.#case.members; member += 1)
      yield* this.#place(this.#case.newcomers.filter((record) => this.#case.memberOf(record) === member));
    for (const { record, with: other, bits } of this.#joined) {
      const unit = this.#unitOf.get(record) as Unit;
      if (unit.waits)
        this.#doubts.push({ kind: 'unsure', record, candidates: [{ unit: unit.index, bits, with: other }] });
    }
    return {
      units: this.#units,
      joined: this.#joined.filter(({ record }) => !this.#unitOf.get(record)?.waits),
      doubts: this.#doubts,
      considered: this.#considered,
    };
  }

  #note(record: number, other: number, bits: number): void {
    const there = this.#alike.get(record);
    if (there) there.push({ record: other, bits });
    else this.#alike.set(record, [{ record: other, bits }]);
  }

  *#place(newcomers: readonly number[]): Steps<void> {
    const wished = new Map<number, readonly Candidate[]>();
    for (const [at, record] of newcomers.entries()) {
      if (at % inOneStep === 0) yield;
      wished.set(
        record,
        this.#linksOf(record).filter(({ unit }) => !this.#isTaken(unit, record)),
      );
    }
    const { thresholds } = this.#case;
    const chosen = chooseTies(
      [...wished].flatMap(([left, candidates]) => candidates.map(({ unit, bits }) => ({ left, right: unit, bits }))),
      thresholds,
    );
    const left = new Set(newcomers);
    const asked = new Set<number>();
    for (const [at, { left: record, right, bits, judgement }] of chosen.entries()) {
      if (at % inOneStep === 0) yield;
      const unit = this.#units[right] as Unit;
      const pair = { record, with: wished.get(record)?.find((wish) => wish.unit === right)?.with ?? -1, bits };
      const isDisputed =
        (bits >= thresholds.upper && judgement === 'asked') || this.#isContradicted(record, unit, pair.with);
      this.#considered.push({ ...pair, isDisputed });
      if (judgement === 'asked' || isDisputed) asked.add(record);
      else {
        this.#join(record, unit);
        this.#joined.push({ ...pair, isDisputed });
        left.delete(record);
      }
    }
    const looked = new Set(chosen.map(({ left: record }) => record));
    for (const record of left) {
      const best = wished.get(record)?.[0];
      if (best && !looked.has(record))
        this.#considered.push({ record, with: best.with, bits: best.bits, isDisputed: best.bits >= thresholds.upper });
    }
    yield* this.#askAboutDuplicates(left);
    for (const [at, record] of [...left].entries()) {
      if (at % inOneStep === 0) yield;
      const candidates = (wished.get(record) ?? [])
        .filter(({ bits }) => bits >= thresholds.lower)
        .slice(0, mostCandidates);
      // What lost to a better one is asked about only where that one is in doubt itself.
      const waits =
        candidates.length > 0 &&
        (asked.has(record) ||
          candidates.some(({ unit, bits }) => bits >= thresholds.upper && !this.#isTaken(unit, record)));
      this.#begin([record], waits);
      if (waits) this.#doubts.push({ kind: 'unsure', record, candidates });
    }
  }

  /** The units that a record is like, the best first. */
  #linksOf(record: number): Candidate[] {
    const best = new Map<Unit, Candidate>();
    for (const { record: other, bits } of this.#alike.get(record) ?? []) {
      const unit = this.#unitOf.get(other);
      if (!unit) continue;
      const there = best.get(unit);
      if (!there || bits > there.bits || (bits === there.bits && other < there.with))
        best.set(unit, { unit: unit.index, bits, with: other });
    }
    return [...best]
      .filter(([unit]) => !unit.records.some((other) => this.#case.areDifferent(record, other)))
      .map(([, candidate]) => candidate)
      .sort((a, b) => b.bits - a.bits || a.unit - b.unit);
  }

  #isTaken(unit: number, record: number): boolean {
    return (this.#units[unit] as Unit).taken.has(this.#case.memberOf(record));
  }

  #isContradicted(record: number, { records }: Unit, by: number): boolean {
    return records.some((other) => other !== by && this.#case.forAndAgainst(record, other) < 0);
  }

  /** Takes out of `left` the records that are like another one of their member, and asks about them. */
  *#askAboutDuplicates(left: Set<number>): Steps<void> {
    const { upper } = this.#case.thresholds;
    for (const [at, record] of [...left].entries()) {
      if (at % inOneStep === 0) yield;
      if (!left.has(record)) continue;
      const group = this.#duplicatesAmong(record, left);
      const like = group
        .flatMap((record) => this.#linksOf(record).filter(({ bits }) => bits >= upper))
        .sort((a, b) => b.bits - a.bits || a.unit - b.unit);
      const taken = like.find(({ unit }) => this.#isTaken(unit, record));
      if (group.length === 1 && !taken) continue;
      const unit = taken ?? like[0];
      const tied =
        taken &&
        (this.#units[taken.unit] as Unit).records.find(
          (other) => this.#case.memberOf(other) === this.#case.memberOf(record),
        );
      const bits =
        taken?.bits ??
        Math.max(...group.flatMap((record) => this.#duplicateBits(record, new Set(group)).map((other) => other.bits)));
      for (const record of group) left.delete(record);
      this.#doubts.push({ kind: 'duplicates', records: group, tied, unit: unit?.unit, bits });
      if (!unit) this.#begin(group, true);
    }
  }

  #duplicateBits(record: number, among: ReadonlySet<number>): { readonly record: number; readonly bits: number }[] {
    const { memberOf, thresholds, areDifferent } = this.#case;
    return (this.#alike.get(record) ?? []).filter(
      ({ record: other, bits }) =>
        bits >= thresholds.upper &&
        among.has(other) &&
        memberOf(other) === memberOf(record) &&
        !areDifferent(record, other),
    );
  }

  #duplicatesAmong(record: number, among: ReadonlySet<number>): number[] {
    const group = new Set([record]);
    for (const like of group) for (const { record: other } of this.#duplicateBits(like, among)) group.add(other);
    return [...group].sort((a, b) => a - b);
  }

  #begin(records: readonly number[], waits: boolean): void {
    const unit: Unit = { index: this.#units.length, records: [], taken: new Set(), waits };
    this.#units.push(unit);
    for (const record of records) this.#join(record, unit);
  }

  #join(record: number, unit: Unit): void {
    unit.records.push(record);
    unit.taken.add(this.#case.memberOf(record));
    this.#unitOf.set(record, unit);
  }
}
