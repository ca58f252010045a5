import type { EvidenceField, EvidenceRow } from '@anchor-knot/core';

/** What the threads of one matching are given when they start. */
export interface MatchJob {
  readonly evidence: readonly EvidenceField[];
  readonly left: readonly EvidenceRow[];
  /** Left out where one list is compared with itself. */
  readonly right?: readonly EvidenceRow[] | undefined;
}

/** Left records from one place to another. */
export interface MatchRange {
  readonly from: number;
  readonly to: number;
}

/** What is true of any two records: how often each level comes, and how many records have a value, by field. */
export interface AnyPairs {
  readonly counts: readonly (readonly number[])[];
  readonly totals: readonly number[];
}
