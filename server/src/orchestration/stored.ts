import type { JournalKind } from '@anchor-knot/contracts';
import type {
  Anchor,
  AnchorId,
  Cause,
  EvidenceTexts,
  FieldId,
  KeyRule,
  FieldLoss,
  Held,
  Instant,
  MemberId,
  Operation,
  Present,
  Problem,
  Reading,
  RecordKey,
  ReferenceBy,
  Shared,
  TieReason,
  Withheld,
} from '@anchor-knot/core';
import type { DecisionDraft } from './decisionDraft.js';

/** What is known of a tie without loading it: enough to see that a record has not changed. */
export interface TieHead {
  readonly anchor: AnchorId;
  readonly fingerprint: string;
  readonly version: string | undefined;
  readonly gone: boolean;
  /** Gone because we archived the record; it can still be read. */
  readonly archived: boolean;
}

export interface RecordRef {
  readonly member: MemberId;
  readonly key: RecordKey;
}

export interface TieRef extends RecordRef {
  readonly anchor: AnchorId;
  readonly gone: boolean;
}

/** What was staged of a record for the merge of its anchor. */
export interface StagedReading extends RecordRef {
  readonly reading: Reading;
  /** It had no tie when it was read; why it was given to this anchor. */
  readonly isNew: boolean;
  readonly why: TieReason | undefined;
}

/** A record read in this run that differs from what is known, or is new. */
export interface StagedRecord extends RecordRef {
  readonly anchor: AnchorId | undefined;
  readonly reading: Reading;
  /** Its keys by rule, `null` where it has none; needed only while it has no anchor. */
  readonly matchKeys: readonly (string | null)[];
  /** What it has for each part of the evidence; needed only while it has no anchor. */
  readonly texts?: EvidenceTexts | undefined;
  /** What it has under checks of unique values; what is known of it stays where this is left out. */
  readonly unique?: readonly { readonly check: string; readonly value: string | undefined }[] | undefined;
}

/** A record that has a value under a unique check that another record of its member has too. */
export interface RepeatedValue extends RecordRef {
  readonly check: string;
  readonly isStaged: boolean;
}

/** What matching needs of a staged record without an anchor. */
export interface StagedNewcomer extends RecordRef {
  readonly matchKeys: StagedRecord['matchKeys'];
  readonly texts: EvidenceTexts;
  readonly isRejected: boolean;
}

/**
 * Why a record that takes part belongs to no anchor: it waits for a person, it failed a check, or nothing matched it
 * and
 * nothing may start in its member.
 */
export type OutsideReason = 'waiting' | 'rejected' | 'untied';

/** A record that belongs to no anchor. */
export interface OutsideRecord extends RecordRef {
  readonly reading: Reading;
  readonly reason: OutsideReason;
  /** A person keeps it out, as a duplicate of another. */
  readonly verdict?: 'aside' | undefined;
}

/** Records of a member that are known: tied and not gone, outside of anchors, or left out by its filter. */
export type KnownList = 'tied' | 'outside' | 'filtered';

/** By what a record outside of anchors is found by something that may change where it belongs. */
export interface Marks {
  readonly keys: AnchorIndex['keys'];
  readonly blocks: readonly number[];
  /** What a doubt about it names: anchors, in which nothing is created meanwhile, and records. */
  readonly doubts: { readonly anchors: readonly AnchorId[]; readonly records: readonly RecordRef[] };
}

/** A record outside of anchors whose place nothing changes, until something is found by its marks. */
export interface RestingRecord extends RecordRef, Marks {
  readonly reading: Reading;
  readonly reason: OutsideReason;
}

/** How many records of a member rest, by the list in which they are. */
export type RestingCounts = Readonly<Record<OutsideReason | 'aside', number>>;

/** What came of a matching, for the records outside of anchors. */
export interface OutsideOutcome {
  /** Those that were outside when the run began and took part, or have left since. */
  readonly known: readonly RecordRef[];
  /** Those that took part and stay. */
  readonly staying: readonly OutsideRecord[];
  readonly decisions: readonly DecisionDraft[];
  /** The version of the knot. */
  readonly version: number;
}

/** By what records that rest are looked for. */
export interface Likeness {
  readonly keys: AnchorIndex['keys'];
  /** Blocks, and how many records of them are looked at at most. */
  readonly blocks: readonly { readonly block: number; readonly limit: number }[];
  /** Records of which somebody may have said that others are the same, or not. */
  readonly records: readonly RecordRef[];
}

export interface StoredAnchor {
  readonly anchor: Anchor;
  /** Grows with every change; a plan made from an older revision is not applied. */
  readonly revision: number;
}

export interface PlanEntry {
  readonly anchor: AnchorId;
  /** The revision that was planned from; 0 for a new anchor. */
  readonly revision: number;
  readonly title: string;
  /** The anchor after the merge, before its writes. */
  readonly after: Anchor;
  readonly operations: readonly Operation[];
  readonly withheld: readonly Withheld[];
  readonly problems: readonly Problem[];
  readonly held: readonly Held[];
  readonly lost: readonly FieldLoss[];
  readonly decisions: readonly DecisionDraft[];
  /** Numbers that it takes with this merge; left out where it takes none. */
  readonly numbers?: readonly { readonly series: string; readonly text: string }[] | undefined;
  /** Left out where the anchor is found by the same as before. */
  readonly index?: AnchorIndex | undefined;
  /** Records that came to the anchor with this merge. */
  readonly came: readonly RecordRef[];
  /** Records that were tied for another reason than a key. */
  readonly tied: readonly (RecordRef & { readonly why: TieReason })[];
}

/** Things that take a number from a series for one of their fields. */
export interface WantedNumbers {
  readonly series: string;
  readonly field: FieldId;
  readonly anchors: readonly AnchorId[];
  /** The key rule that compares the field alone, and its place: by it things are found that have such a number. */
  readonly rule?: { readonly place: number; readonly rule: KeyRule } | undefined;
}

/** By what newcomers find an anchor. */
export interface AnchorIndex {
  /** Rule and normalised value. */
  readonly keys: readonly (readonly [rule: number, key: string])[];
  /** What its records have for the evidence; none where the knot weighs none. */
  readonly evidence: readonly IndexedRecord[];
  /** The things of other knots that it refers to; left out where the knot refers to none. */
  readonly references?: readonly { readonly field: FieldId; readonly anchor: AnchorId }[] | undefined;
}

export interface IndexedRecord extends RecordRef {
  readonly texts: EvidenceTexts;
  /** What it shares with records that are like it. */
  readonly blocks: readonly number[];
}

/** Records that share something with a newcomer. */
export interface EvidenceCandidates {
  /** Each record once, with all others of its anchor. */
  readonly records: readonly (RecordRef & { readonly anchor: AnchorId; readonly texts: EvidenceTexts })[];
  /** For each newcomer asked about, places in `records`. */
  readonly found: readonly (readonly number[])[];
}

/**
 * A write that is about to be made. It stays open until its outcome is stored; a crash in between is resolved by
 * looking.
 */
export interface Intent {
  readonly id: string;
  readonly operation: Operation;
  readonly storedAt: Instant;
  /** Nobody could find out whether it took effect: a person must say. */
  readonly unclear?: boolean;
}

export interface JournalRow {
  readonly anchor: AnchorId;
  readonly member: MemberId | undefined;
  readonly key: RecordKey | undefined;
  readonly kind: JournalKind;
  readonly field: FieldId | undefined;
  readonly before: Present;
  readonly after: Present;
  readonly meaning: Shared | undefined;
  readonly cause: Cause | TieReason | undefined;
  readonly at: Instant;
}

export type OperationState = 'planned' | 'written' | 'refused' | 'raced' | 'gone' | 'not done' | 'unclear';

export interface WriteRecord {
  readonly intent: string;
  readonly operation: Operation;
  readonly state: Exclude<OperationState, 'planned'>;
  readonly words?: string | undefined;
  readonly key?: RecordKey | undefined;
}

/** An anchor after the outcome of its writes, ready to be stored. */
export interface AnchorOutcome {
  readonly anchor: Anchor;
  readonly open: boolean;
  readonly decisions: readonly DecisionDraft[];
  /** Left out where the anchor is found by the same as before. */
  readonly index?: AnchorIndex | undefined;
  readonly title: string;
  /** Records that a person took from it while they were written: what they hold since. */
  readonly parted?: readonly (RecordRef & { readonly reading: Reading })[] | undefined;
}

/** What a batch of writes left, and what is to be remembered of it. */
export interface Outcomes {
  readonly anchors: readonly {
    /** The revision that the merge left, and the outcome on top of it. */
    readonly revision: number;
    readonly outcome: AnchorOutcome;
    /** The outcome on top of what somebody has made of the anchor meanwhile. */
    readonly applyTo: (current: Anchor) => AnchorOutcome;
  }[];
  readonly writes: readonly WriteRecord[];
  readonly journal: readonly JournalRow[];
}

/** A reference that waits for something of a knot. */
export interface WaitingReference {
  readonly knot: string;
  readonly by: ReferenceBy;
  readonly value: string | null;
  readonly thing: string | null;
}

/** A record that takes no part, and what it is called. */
export interface FilteredRecord {
  readonly key: RecordKey;
  readonly title: string;
}

export interface MemberCursor {
  /** Ask for changes since then, by the system's clock. */
  readonly changedSince: Instant;
  /** When this member was last listed completely. */
  readonly listedAt: Instant;
  /** When it was read last: everything that changed before is known. By our own clock. */
  readonly readAt: Instant;
  /** When all that it had told of was read by its keys; never, where it is left out. By our own clock. */
  readonly toldReadAt?: Instant | undefined;
  readonly knotVersion: number;
}
