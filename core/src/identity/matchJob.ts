import type { EvidenceField, Weights } from '../definition/index.js';
import { BlockIndex } from './blocking.js';
import { learnShares, ShareTable } from './commonness.js';
import { type EvidenceTexts, prepareColumns } from './evidence.js';
import type { AnyRecords } from './likelyPairs.js';
import { type ComparedPairs, comparePairs, type Comparing } from './matchPairs.js';
import { sampleAnyPairs } from './weights.js';

/** What is compared: the records of all members in one list, the newcomers first. */
export interface MatchJob {
  readonly evidence: readonly EvidenceField[];
  readonly texts: readonly EvidenceTexts[];
  /** The member of each record, by its place in their order. */
  readonly memberOf: ArrayLike<number>;
  readonly members: number;
  /** How many of them look for candidates; the first ones. */
  readonly newcomers: number;
  /** How many after those are only found by what they share. */
  readonly others?: number | undefined;
  /** For each newcomer the records after all those that it is compared with, found elsewhere. */
  readonly known?: readonly ArrayLike<number>[] | undefined;
  /** Whether records of one member are compared with each other. */
  readonly withinMembers: boolean;
  /** Weights that were learned before; without them they are learned from this data. */
  readonly weights?: Weights | undefined;
}

/** Newcomers from one place to another. */
export interface MatchRange {
  readonly from: number;
  readonly to: number;
}

/** A job made ready: all records are prepared once, then ranges of them are compared. */
export class PreparedJob {
  readonly #job: MatchJob;
  readonly #comparing: Comparing;

  constructor(job: MatchJob) {
    this.#job = job;
    const columns = prepareColumns(job.evidence, job.texts);
    const indexes = this.#placesByMember(0, job.newcomers).map((places) => new BlockIndex(columns, places));
    const others = job.others
      ? this.#placesByMember(job.newcomers, job.newcomers + job.others).map((places) => new BlockIndex(columns, places))
      : undefined;
    const shares = (job.weights?.fields ?? columns.map(learnShares)).map((of) => new ShareTable(of));
    const { known } = job;
    this.#comparing = {
      columns,
      memberOf: job.memberOf,
      indexes,
      others,
      withinMembers: job.withinMembers,
      shares,
      known: known && ((record) => known[record] ?? []),
    };
  }

  compare({ from, to }: MatchRange): ComparedPairs {
    return comparePairs(this.#comparing, from, to);
  }

  sample(): AnyRecords {
    const [first = [], ...rest] = this.#placesByMember(0, this.#job.texts.length).filter(({ length }) => length > 0);
    return {
      anyPairs: sampleAnyPairs(this.#comparing.columns, first, rest.length === 0 ? first : rest.flat()),
      shares: this.#comparing.columns.map(learnShares),
    };
  }

  #placesByMember(from: number, to: number): number[][] {
    const places = Array.from({ length: this.#job.members }, (): number[] => []);
    for (let place = from; place < to; place += 1) places[this.#job.memberOf[place] as number]?.push(place);
    return places;
  }
}
