import type { Thresholds } from '../definition/index.js';
import type { AnchorId, MemberId } from '../record/index.js';
import type { LikelyPairs } from './likelyPairs.js';
import { type EvidenceOutcome, type KnownUnit, matchByEvidence } from './matchByEvidence.js';
import type { RecordMatching } from './recordMatching.js';
import type { Steps } from './steps.js';
import { recordId, type RecordName, type Verdicts } from './verdict.js';

/** An anchor from before, with those of its records that were compared. */
export interface ComparedAnchor {
  readonly anchor: AnchorId;
  readonly records: readonly RecordName[];
  /** All members in which it has a tie, gone ones included. */
  readonly members: readonly MemberId[];
}

export interface FreeCase {
  readonly matching: RecordMatching;
  /** The members, in the order of the knot. */
  readonly members: readonly MemberId[];
  /** The records that were compared, by their places. */
  readonly records: readonly RecordName[];
  readonly likely: LikelyPairs;
  readonly thresholds: Thresholds;
  readonly verdicts: Verdicts;
  /** None where nothing is tied yet. */
  readonly known?: readonly ComparedAnchor[] | undefined;
}

/** Ties what the key rules have left by evidence, as far as it was compared, and gives what was thought of it. */
export function* matchFree({
  matching,
  members,
  records,
  likely,
  thresholds,
  verdicts,
  known = [],
}: FreeCase): Steps<EvidenceOutcome> {
  const places = new Map(records.map((record, place) => [recordId(record), place]));
  const memberAt = new Map(members.map((member, index) => [member, index]));
  const placesOf = (names: readonly RecordName[]): number[] =>
    names.flatMap((name) => places.get(recordId(name)) ?? []);
  const together = matching.together();
  const anchors: AnchorId[] = [];
  const units: KnownUnit[] = [];
  const add = (anchor: AnchorId, own: readonly RecordName[], taken: readonly MemberId[]): void => {
    anchors.push(anchor);
    units.push({ records: placesOf(own), taken: new Set(taken.flatMap((member) => memberAt.get(member) ?? [])) });
  };
  const before = new Map(known.map((record) => [record.anchor, record]));
  for (const { anchor, records: own, members: tied } of known) {
    const joined = together.get(anchor) ?? [];
    add(anchor, [...own, ...joined], [...tied, ...joined.map(({ member }) => member)]);
  }
  for (const [anchor, joined] of together) {
    if (before.has(anchor)) continue;
    add(
      anchor,
      joined,
      joined.map(({ member }) => member),
    );
  }
  const recordAt = (place: number): RecordName => records[place] as RecordName;
  const outcome = yield* matchByEvidence({
    memberOf: (place) => memberAt.get(recordAt(place).member) ?? -1,
    members: members.length,
    newcomers: placesOf(matching.free()),
    units,
    pairs: likely.pairs,
    forAndAgainst: (a, b) => likely.forAndAgainst(a, b),
    thresholds,
    areDifferent: (a, b) => verdicts.areDifferent(recordAt(a), recordAt(b)),
  });
  yield* matching.applyEvidence(outcome, recordAt, anchors);
  return outcome;
}
