import type { FieldPath } from '../record/index.js';
import { bestAssignment } from '../assignment/index.js';
import { partsOfName } from './fieldNames.js';
import { judgePair, type NamedSketch, type Reason } from './pairEvidence.js';
import type { ObjectSketch } from './sketch.js';
import { TiedRecords } from './tiedEvidence.js';

export interface ProposedPair {
  readonly left: FieldPath;
  readonly right: FieldPath;
  /** From 0 to 1: how likely it is that the two correspond, as far as the evidence goes. */
  readonly confidence: number;
  readonly reasons: readonly Reason[];
}

export interface PairProposals {
  readonly pairs: readonly ProposedPair[];
  /** The records that a key ties, by which fields were compared. */
  readonly tied: TiedRecords;
}

/**
 * Which fields of two objects correspond: the one-to-one assignment in which the evidence (names, types, formats,
 * values,
 * and equality in records that a key ties) is greatest; pairs for which less speaks than against are left out.
 */
export function proposePairs(
  left: ObjectSketch,
  right: ObjectSketch,
  isRefused: (left: FieldPath, right: FieldPath) => boolean = () => false,
): PairProposals {
  const tied = new TiedRecords(left, right);
  const named = ({ fields }: ObjectSketch): NamedSketch[] =>
    fields.map((field) => ({ ...field, parts: partsOfName(field.path) }));
  const [lefts, rights] = [named(left), named(right)];
  const judged = lefts.map((a) => rights.map((b) => judgePair(a, b, tied.compare(a.path, b.path))));
  const weights = judged.map((row, i) =>
    row.map(({ score }, j) => (isRefused(lefts[i]?.path ?? '', rights[j]?.path ?? '') ? 0 : score)),
  );
  const pairs = bestAssignment(weights).flatMap((partner, index): ProposedPair[] => {
    const [a, b, found] = [lefts[index], rights[partner], judged[index]?.[partner]];
    return a && b && found
      ? [{ left: a.path, right: b.path, confidence: 1 / (1 + Math.exp(-found.score)), reasons: found.reasons }]
      : [];
  });
  return { pairs, tied };
}
