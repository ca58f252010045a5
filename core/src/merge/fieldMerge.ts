import type { Rule } from '../definition/index.js';
import type { Lens } from '../mapping/index.js';
import type { FieldId, FieldType, Instant, MemberId, Present, Raw, Shared, Wanted } from '../record/index.js';
import type { Agreed, Ahead, Loss, Tie } from './anchor.js';
import type { Candidate } from './rule.js';

/** One tie's part in the merge of one field. */
export interface FieldTie {
  readonly tie: Tie;
  readonly lens: Lens;
  readonly present: Present;
  /** The record's modification time, corrected, when it was read in this run. */
  readonly modifiedAt?: Instant | undefined;
  /** What to do when a member that only receives was edited by hand. */
  readonly drift: 'put back' | 'leave';
}

export interface FieldMergeInput {
  readonly field: FieldId;
  readonly type: FieldType;
  readonly rule: Rule;
  readonly agreed: Agreed | undefined;
  /** In the knot's order of members. The result does not depend on the order in which they were read. */
  readonly ties: readonly FieldTie[];
  readonly now: Instant;
  /** Start by adopting: what is there stays, and fields that differ have no agreed value until somebody edits. */
  readonly adopt: boolean;
  /** Whether the thing would stand under itself with that value. */
  readonly isCircle?: ((value: Shared) => boolean) | undefined;
}

export interface Problem {
  readonly member: MemberId;
  readonly field: FieldId;
  /** `waiting`: it refers to a thing that cannot be told yet, and goes by itself when it can. */
  readonly kind: 'unreadable' | 'unwritable' | 'waiting';
  readonly raw: Present;
  readonly reason: string;
  readonly waitsFor?: Wanted | undefined;
}

/** A translation that failed, as it is told. */
export function problemOf(
  place: Pick<Problem, 'member' | 'field' | 'raw'>,
  kind: 'unreadable' | 'unwritable',
  { reason, waitsFor }: { readonly reason: string; readonly waitsFor?: Wanted | undefined },
): Problem {
  return waitsFor ? { ...place, kind: 'waiting', reason, waitsFor } : { ...place, kind, reason };
}

/** A reason as it is alike for all values that are wrong in the same way: values stand in quotes. */
export const withoutValues = (reason: string): string => reason.replaceAll(/“[^”]*”/g, '“…”');

export interface FieldWrite {
  readonly member: MemberId;
  readonly field: FieldId;
  readonly before: Present;
  readonly after: Raw;
}

/** A field that a person must settle. `base` is what was agreed before. */
export interface Held {
  readonly field: FieldId;
  readonly base: Agreed | undefined;
  readonly candidates: readonly Candidate[];
  readonly reason: string;
  /** With what was given it would stand under itself. */
  readonly isCircle?: boolean | undefined;
}

export interface FieldMerge {
  readonly agreed: Agreed | undefined;
  readonly held?: Held;
  readonly lost: readonly Loss[];
  readonly writes: readonly FieldWrite[];
  readonly problems: readonly Problem[];
  /** Present values that stay ahead of seen; every other one is seen after this merge. */
  readonly ahead: ReadonlyMap<MemberId, Ahead>;
  readonly left: ReadonlyMap<MemberId, Shared>;
}
