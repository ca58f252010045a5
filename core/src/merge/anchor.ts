import type { AnchorId, FieldId, Instant, MemberId, Present, Raw, RecordKey, Shared } from '../record/index.js';

export type Giver =
  | { readonly kind: 'member'; readonly member: MemberId }
  | { readonly kind: 'person'; readonly name: string }
  | { readonly kind: 'formula' }
  | { readonly kind: 'series' };

/** Why a value is what it is. Kept with the agreed value and with every write. */
export type Cause =
  | { readonly kind: 'edit'; readonly members: readonly MemberId[] }
  | {
      readonly kind: 'rule';
      readonly rule: string;
      readonly members: readonly MemberId[];
      readonly over: readonly LostValue[];
    }
  | { readonly kind: 'combined'; readonly rule: string; readonly members: readonly MemberId[] }
  | { readonly kind: 'person'; readonly name: string; readonly over: readonly LostValue[] }
  | { readonly kind: 'equal'; readonly members: readonly MemberId[] }
  /** What that field refers to has no record left. */
  | { readonly kind: 'referred gone'; readonly field: FieldId }
  /** The record of that member was deleted. */
  | { readonly kind: 'deleted'; readonly member: MemberId }
  /** What became of its thing in that member. */
  | {
      readonly kind: 'outcome';
      readonly member: MemberId;
      readonly state: 'done' | 'failed' | 'pending';
      readonly words?: string | undefined;
    }
  /** What that member refers to became another thing: it was merged, parted, or is known by now. */
  | { readonly kind: 'reference'; readonly member: MemberId }
  /** The next number of that series. */
  | { readonly kind: 'number'; readonly series: string }
  /** Computed from the agreed values of other fields. */
  | { readonly kind: 'formula'; readonly of: readonly FieldId[] };

/** A value that lost, so that no edit disappears without a trace. `member` is undefined for the value agreed before. */
export interface LostValue {
  readonly member?: MemberId | undefined;
  readonly value: Shared;
}

/** A value that lost in a merge, and to what. */
export interface Loss extends LostValue {
  readonly why: Cause;
}

/** The shared value last settled for a field of an anchor. `at` is when the edit that gave it was made. */
export interface Agreed {
  readonly value: Shared;
  /** Who gave it; of several, the one that gave it last. */
  readonly by: Giver;
  /** The others that gave the same value. */
  readonly also?: readonly Giver[] | undefined;
  readonly at: Instant;
  readonly why: Cause;
}

/** A present value that *seen* does not hold yet: it is held, cannot be read, or its record is rejected. */
export interface Ahead {
  readonly raw: Raw;
  /** When a run first noticed it. */
  readonly noticedAt: Instant;
  /** The record's modification time at that run, corrected by the measured clock offset of its system. */
  readonly modifiedAt?: Instant | undefined;
}

/**
 * How a tie ended that is gone. `archived` and `deleted`: we did it. Otherwise its record was deleted in its own
 * system:
 * `ask` waits for a person; the rest is what the definition or a person said shall become of the others. Without an end
 * it has not been merged yet. `to be made anew`: we deleted it because another one was deleted, which has come back.
 */
export type TieEnd =
  'archived' | 'deleted' | 'to be made anew' | 'ask' | 'keep others' | 'archive others' | 'delete others';

/** The bond between an anchor and one record in one member. */
export interface Tie {
  readonly member: MemberId;
  readonly key: RecordKey;
  /** A gone tie is kept, so that its record is not created again. */
  readonly gone?: boolean;
  readonly end?: TieEnd | undefined;
  /** The record's version when it was last read or written. */
  readonly version?: string | undefined;
  /**
   * The raw value of each field that the last merge took into account, or that our last write left. A missing field is
   * a newcomer.
   */
  readonly seen: Readonly<Record<FieldId, Raw>>;
  readonly ahead: Readonly<Record<FieldId, Ahead>>;
  /** Fields of a receiving member that were edited by hand and are left so until the agreed value is another. */
  readonly left: Readonly<Record<FieldId, Shared>>;
  /** Why the record neither gives nor receives: the checks that it failed. */
  readonly rejected?: readonly string[] | undefined;
  readonly parked?: Parked | undefined;
  /** What the record was told, or is to be told, of its thing in other members. */
  readonly outcomes?: Readonly<Record<MemberId, OutcomeAccount>> | undefined;
  /** Since when its system has not acknowledged what was written there. */
  readonly unacknowledgedSince?: Instant | undefined;
}

/** What a record was told of another member, and whether there is something to be told that it does not know. */
export interface OutcomeAccount {
  readonly told?: Told | undefined;
  /** Something was written over there since, or somebody wants the record taken again. */
  readonly isDue?: boolean | undefined;
}

/** How a thing stands in a member. */
export interface MemberOutcome {
  readonly state: 'done' | 'failed' | 'pending';
  /** Why it failed or waits. */
  readonly words?: string | undefined;
  /** Its record there. */
  readonly key?: RecordKey | undefined;
}

/** An outcome as it was told. */
export interface Told extends MemberOutcome {
  readonly at: Instant;
  /** The system's words, where it would not take it: it is told again when there is something else to tell. */
  readonly refused?: string | undefined;
}

/** A write that the system refused. It is not tried again until its fingerprint changes or a person asks. */
export interface Parked {
  readonly fingerprint: string;
  readonly words: string;
}

/** One real-world thing in a knot. */
export interface Anchor {
  readonly id: AnchorId;
  readonly agreed: Readonly<Record<FieldId, Agreed>>;
  readonly ties: readonly Tie[];
  /** The members that had a record of it when it began. */
  readonly beganIn: readonly MemberId[];
  /** Creations that a member refused. */
  readonly parkedCreates: Readonly<Record<MemberId, Parked>>;
  /** The record that was last taken from it, by member: one that is created there is another one. */
  readonly parted?: Readonly<Record<MemberId, RecordKey>> | undefined;
}

/** What a record of a member holds now, by shared field. A field that the system did not send is missing. */
export interface Reading {
  readonly fields: Readonly<Record<FieldId, Raw>>;
  readonly version?: string | undefined;
  readonly modifiedAt?: Instant | undefined;
  /** The checks that the record fails now. */
  readonly rejected?: readonly string[] | undefined;
}

/** Fields as a tie should show them if nobody edited: what is seen, or is known to be ahead of it. */
export function expectedFields(tie: Pick<Tie, 'seen' | 'ahead'>): Record<FieldId, Raw> {
  const fields: Record<FieldId, Raw> = { ...tie.seen };
  for (const [field, { raw }] of Object.entries(tie.ahead)) fields[field] = raw;
  return fields;
}

/** A tie as it is now: what was read in this run, or else what is known from before. */
export function presentOf(tie: Tie, reading: Reading | undefined, field: FieldId): Present {
  if (reading && Object.hasOwn(reading.fields, field)) return reading.fields[field];
  const ahead = tie.ahead[field];
  return ahead ? ahead.raw : tie.seen[field];
}

const unedited: ReadonlySet<Cause['kind']> = new Set(['equal', 'formula', 'number']);

/** Whether somebody gave a value: an edit, a rule over edits, or a person. What was only found to be equal was not. */
export function isEdited(agreed: Agreed | undefined): boolean {
  return agreed !== undefined && !unedited.has(agreed.why.kind);
}

/** Whether an anchor has a record that is there. One that has none is dead: nothing is found by it any more. */
export function isAlive({ ties }: Pick<Anchor, 'ties'>): boolean {
  return ties.some(({ gone }) => !gone);
}
