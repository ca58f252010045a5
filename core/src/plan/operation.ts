import type { AnchorId, FieldId, FieldPath, MemberId, Present, Raw, RecordKey, Shared } from '../record/index.js';
import type { Cause, Giver, Problem, Told } from '../merge/index.js';

/** One field of an operation: what was there, what will be, what that means, and why. */
export interface FieldChange {
  readonly field: FieldId;
  readonly path: FieldPath;
  readonly before: Present;
  readonly after: Raw;
  readonly meaning: Shared;
  readonly by: Giver;
  readonly why: Cause;
}

/** A write in one member. A plan is a list of these: data that can be counted, shown, stored and applied. */
export type Operation = CreateOperation | UpdateOperation | RemoveOperation | WriteBackOperation;

export interface CreateOperation {
  readonly kind: 'create';
  readonly anchor: AnchorId;
  readonly member: MemberId;
  readonly changes: readonly FieldChange[];
  /** The field that is given the anchor's id, so that an interrupted creation can be found. */
  readonly carries: FieldPath | undefined;
  /** The record that the anchor had there before, and that was taken from it: it is not the one that is created. */
  readonly parted?: RecordKey | undefined;
  readonly fingerprint: string;
}

export interface UpdateOperation {
  readonly kind: 'update';
  readonly anchor: AnchorId;
  readonly member: MemberId;
  readonly key: RecordKey;
  /** The version that was read; the write must not happen over another one. */
  readonly version: string | undefined;
  readonly changes: readonly FieldChange[];
  readonly fingerprint: string;
}

/** A record is put away or deleted, because another record of the same thing was deleted. */
export interface RemoveOperation {
  readonly kind: 'archive' | 'delete';
  readonly anchor: AnchorId;
  readonly member: MemberId;
  readonly key: RecordKey;
  readonly version: string | undefined;
  /** Of a removal there are none. */
  readonly changes: readonly FieldChange[];
  readonly why: Cause;
  readonly fingerprint: string;
}

/** A record is told what became of its thing in other members. */
export interface WriteBackOperation {
  readonly kind: 'write back';
  readonly anchor: AnchorId;
  readonly member: MemberId;
  readonly key: RecordKey;
  readonly version: string | undefined;
  /** Nothing of it is shared: each is named by its place. */
  readonly changes: readonly FieldChange[];
  readonly outcomes: readonly { readonly of: MemberId; readonly told: Told }[];
}

/** A deletion of which a person has to say what follows. */
export interface AskedDeletion {
  readonly member: MemberId;
  readonly key: RecordKey;
  /** Members in which the thing still has a record, with what we may do there. */
  readonly others: readonly {
    readonly member: MemberId;
    readonly key: RecordKey;
    readonly archive: boolean;
    readonly delete: boolean;
  }[];
}

/** Why an anchor has no record in a member, or a record there is not written, although it should be. */
export interface Withheld {
  readonly member: MemberId;
  readonly kind: 'waits' | 'cannot be created' | 'parked' | 'not allowed';
  readonly reason: string;
}

/** What is to be written for one anchor, and what is not. */
export interface AnchorPlan {
  readonly operations: readonly Operation[];
  readonly withheld: readonly Withheld[];
  /** Values that a member cannot hold, found while making a new record. */
  readonly problems: readonly Problem[];
  readonly asked: readonly AskedDeletion[];
}
