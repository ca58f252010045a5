import type { JournalKind } from '@anchor-knot/contracts';
import type {
  Anchor,
  AnchorId,
  Cause,
  EvidenceTexts,
  FieldId,
  FieldLoss,
  Held,
  Instant,
  KeyRule,
  MemberId,
  Operation,
  Present,
  Problem,
  Reading,
  RecordKey,
  Shared,
  TieReason,
  Verdict,
  Withheld,
} from '@anchor-knot/core';
import type { AnchorRange, SharedPhase, TakenUp, WorkDone } from './batch.js';
import type { DecisionDraft, SourceReading } from './decisionDraft.js';
import type { DecisionKind } from '@anchor-knot/contracts';
import type { BatchRequest, BegunRun, RunLease, RunRequest, TakenBatch } from './lease.js';
import type { MemberAccount, MemberTally, RunProgress, RunResult } from './runResult.js';

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
  readonly reason: keyof RestingCounts;
}

/** How many records of a member rest, by the list in which they are. */
export type RestingCounts = Readonly<Record<'untied' | 'waiting', number>>;

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
  readonly index: AnchorIndex;
  /** Records that came to the anchor with this merge. */
  readonly came: readonly RecordRef[];
  /** Records that were tied for another reason than a key. */
  readonly tied: readonly (RecordRef & { readonly why: TieReason })[];
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
  readonly index: AnchorIndex;
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

/**
 * What the orchestrator keeps. Each method is one transaction: it takes effect as a whole or not at all. Methods that
 * take a lease throw {@link LeaseLost} when it is no longer valid.
 */
export interface Store {
  /**
   * Opens a run; `undefined` when another run of the knot is open and its lease has not run out. A run whose worker
   * died is ended as failed, unless it is the one that is asked for and had opened a phase to others: it is taken up
   * where it stood, its parts are held until they are freed, and for a while no other run takes its place.
   */
  beginRun(request: RunRequest): Promise<BegunRun | undefined>;
  /** Renews the lease of a run, or of a part. @returns whether somebody asked to stop the run */
  renewLease(lease: RunLease, now: Instant, leaseMs: number): Promise<{ readonly stop: boolean }>;
  /** Tells how far it is, and renews the lease with it. @returns whether somebody asked to stop the run */
  saveProgress(
    lease: RunLease,
    progress: RunProgress,
    now: Instant,
    leaseMs: number,
  ): Promise<{ readonly stop: boolean }>;
  /**
   * Ends the run and forgets what was staged. Cursors are moved only here, after everything that was read is settled.
   */
  endRun(lease: RunLease, result: RunResult, cursors: ReadonlyMap<MemberId, MemberCursor>): Promise<void>;

  cursors(knot: string): Promise<ReadonlyMap<MemberId, MemberCursor>>;
  tieHeads(knot: string, member: MemberId, keys: readonly RecordKey[]): Promise<ReadonlyMap<RecordKey, TieHead>>;
  /** Keys of a member's tied records that are not gone, and that begin as one of these. */
  tiedUnder(knot: string, member: MemberId, beginnings: readonly string[]): Promise<readonly RecordKey[]>;
  /** How many ties that are not gone each member has. */
  tieCounts(knot: string): Promise<ReadonlyMap<MemberId, number>>;
  /** Notes what a complete listing of a member has shown. */
  noteListed(lease: RunLease, member: MemberId, keys: readonly RecordKey[]): Promise<void>;
  /** Keys of a member's known records that the listing of this run has not shown, in order, after a key. */
  unlisted(
    lease: RunLease,
    member: MemberId,
    list: KnownList,
    after: RecordKey | undefined,
    limit: number,
  ): Promise<readonly RecordKey[]>;
  markGone(lease: RunLease, member: MemberId, keys: readonly RecordKey[], at: Instant): Promise<void>;

  /**
   * The records outside of anchors.
   * @param restingUnder a version of the knot; those that rest under it are left out
   */
  outside(knot: string, restingUnder?: number): Promise<readonly OutsideRecord[]>;
  /** How many records of each member rest under a version, and how often people have acted on anchors until now. */
  resting(
    knot: string,
    version: number,
  ): Promise<{ readonly counts: ReadonlyMap<MemberId, RestingCounts>; readonly acts: number }>;
  /** Those of some records that rest, or did until somebody woke them. */
  restingAmong(knot: string, records: readonly RecordRef[]): Promise<readonly OutsideRecord[]>;
  /**
   * Those that rest and share something with others, or are in doubt about an anchor that shares something with these,
   * or about what these are in doubt about.
   */
  restingLike(knot: string, likeness: Likeness): Promise<readonly OutsideRecord[]>;
  /**
   * Keeps untied records, which rest under the run's version until an anchor that shares something with them changes,
   * somebody says something of them, or a run wakes them; and those that wait, which rest so when their decisions are
   * stored, unless they were woken meanwhile. Where people have acted since, they do not rest: what they might be like
   * may have changed while they were matched.
   * @param acts how often people had acted before they were matched
   */
  letRest(lease: RunLease, version: number, acts: number, records: readonly RestingRecord[]): Promise<void>;
  /** Records that are gone or take no part any more: doubts about them keep nothing from being created. */
  noteLeft(lease: RunLease, records: readonly RecordRef[]): Promise<void>;
  stage(lease: RunLease, records: readonly StagedRecord[]): Promise<void>;
  /** Takes records out of a run again: they take no part. */
  unstage(lease: RunLease, records: readonly RecordRef[]): Promise<void>;
  stagedNewcomers(lease: RunLease): AsyncIterable<readonly StagedNewcomer[]>;
  stagedReadings(
    lease: RunLease,
    refs: readonly RecordRef[],
  ): Promise<readonly (RecordRef & { readonly reading: Reading })[]>;
  /** Changes what was staged of records, and nothing else about them. */
  changeReadings(lease: RunLease, records: readonly (RecordRef & { readonly reading: Reading })[]): Promise<void>;
  /**
   * Under unique checks, in order of check, member and key. Records that are gone, or neither tied nor staged, do not
   * count. Of values that no staged and no rejected record has, nothing need be said.
   */
  repeatedValues(lease: RunLease, checks: readonly string[]): Promise<readonly RepeatedValue[]>;
  /** Ties whose records are rejected. */
  rejectedTies(lease: RunLease): Promise<readonly RecordRef[]>;
  anchorsWithKeys(
    knot: string,
    keys: readonly (readonly [rule: number, key: string])[],
  ): Promise<readonly { readonly rule: number; readonly key: string; readonly anchor: AnchorId }[]>;
  tiesOf(knot: string, anchors: readonly AnchorId[]): Promise<readonly TieRef[]>;
  /** The key rules of a knot, as they are in force; none where there is no such knot. */
  keyRulesOf(knot: string): Promise<readonly KeyRule[]>;
  /** What things agree on in a field that holds a text; those without one are left out. */
  agreedTexts(knot: string, field: FieldId, anchors: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, string>>;
  /** How many things that are there refer to some anchors; those that nothing refers to are left out. */
  referringCounts(anchors: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, number>>;
  /** Of anchors that became part of others, which they are now. */
  redirects(anchors: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, AnchorId>>;
  assign(
    lease: RunLease,
    records: readonly (RecordRef & { readonly anchor: AnchorId; readonly why: TieReason | undefined })[],
  ): Promise<void>;
  /** What people have said about pairs of records. */
  verdicts(knot: string): Promise<readonly Verdict[]>;
  /** Of what definition the index of anchors is; `undefined` when there is none, or it was lost. */
  indexedAs(knot: string): Promise<string | undefined>;
  /** Anchors in order of id, after one. */
  anchorIds(knot: string, after: AnchorId | undefined, limit: number): Promise<readonly AnchorId[]>;
  /** Replaces the index of these anchors. */
  saveIndex(
    lease: RunLease,
    anchors: readonly { readonly anchor: AnchorId; readonly index: AnchorIndex }[],
  ): Promise<void>;
  /** Says that all anchors are indexed by that definition. */
  markIndexed(lease: RunLease, fingerprint: string): Promise<void>;
  /**
   * Finds the records of anchors that share blocks with newcomers. A block with more records than its limit is passed
   * over.
   * @param newcomers for each newcomer its blocks
   */
  evidenceCandidates(
    knot: string,
    newcomers: readonly (readonly { readonly block: number; readonly limit: number }[])[],
  ): Promise<EvidenceCandidates>;
  /**
   * Keeps the records outside of anchors, and the decisions about them. What a person has put there or set aside
   * meanwhile stays, with what was read of it last. Those that wait and were let rest do so from now on; decisions
   * about those that took no part stay open.
   */
  saveOutside(lease: RunLease, outcome: OutsideOutcome, at: Instant): Promise<void>;
  /** Members in which nothing may be created for some anchors, because of doubts about records that rest. */
  blockedByResting(
    lease: RunLease,
    anchors: readonly AnchorId[],
  ): Promise<ReadonlyMap<AnchorId, ReadonlySet<MemberId>>>;
  /** Notes records that the filter leaves out; those that are noted already cost nothing. */
  noteFiltered(lease: RunLease, member: MemberId, records: readonly FilteredRecord[]): Promise<void>;
  /** Records that the filter leaves out no longer: they are gone, or take part. */
  forgetFiltered(lease: RunLease, member: MemberId, keys: readonly RecordKey[]): Promise<void>;
  /** How many records of each member the filter leaves out. */
  filteredCounts(knot: string): Promise<ReadonlyMap<MemberId, number>>;
  /** How many records of each member are in which list. */
  accounts(knot: string): Promise<ReadonlyMap<MemberId, MemberAccount>>;

  /**
   * Opens a phase to any worker, in parts of so many anchors: those to be merged, or those that were planned. What was
   * opened before is forgotten.
   * @param standing where the run stands, for the worker that takes it up should this one die
   */
  openBatches(lease: RunLease, phase: SharedPhase, standing: TakenUp, size: number): Promise<void>;
  /** Lets others take the parts of a run that was taken up. */
  freeBatches(lease: RunLease): Promise<void>;
  /**
   * Takes a part that nobody has taken, or whose worker's lease has run out; of runs that are under way.
   * @returns `undefined` where there is none
   */
  takeBatch(request: BatchRequest): Promise<TakenBatch | undefined>;
  /** @param lease of a part */
  endBatch(lease: RunLease, done: WorkDone): Promise<void>;
  /** Gives a part back, for somebody else to take. @param lease of a part */
  giveBack(lease: RunLease): Promise<void>;
  /** What became of each part; `undefined` as long as it is not done. */
  batches(lease: RunLease): Promise<readonly (WorkDone | undefined)[]>;

  /** Anchors to be merged in this run: those with staged records, and those with something open. In order of id. */
  anchorsToMerge(lease: RunLease, range: AnchorRange, limit: number): Promise<readonly AnchorId[]>;
  loadAnchors(lease: RunLease, ids: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, StoredAnchor>>;
  /** What was staged for these anchors: readings by member, with the key and the reason for new ties. */
  stagedFor(lease: RunLease, ids: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, readonly StagedReading[]>>;
  savePlan(lease: RunLease, entries: readonly PlanEntry[]): Promise<void>;
  /** Planned entries that are not yet applied, in order of anchor. */
  planned(lease: RunLease, range: AnchorRange, limit: number): Promise<readonly PlanEntry[]>;

  /**
   * Steps 7 of the merge: agreed values, what the ties have seen, decisions and intents, before the first call. Gives
   * the anchors whose revision was still the one planned from.
   */
  commitMerge(
    lease: RunLease,
    entries: readonly PlanEntry[],
    intents: readonly Intent[],
    journal: readonly JournalRow[],
    at: Instant,
  ): Promise<readonly AnchorId[]>;
  /** How many writes of the run took effect in each member, and how many did not. */
  writeCounts(lease: RunLease): Promise<ReadonlyMap<MemberId, Pick<MemberTally, 'written' | 'failed'>>>;
  recordOutcomes(lease: RunLease, outcomes: Outcomes, at: Instant): Promise<void>;
  /** @param range of anchors; all where it is left out */
  openIntents(knot: string, range?: AnchorRange): Promise<readonly Intent[]>;
  markUnclear(lease: RunLease, intents: readonly string[]): Promise<void>;
  /**
   * Opens the decisions about what was read, but for those of which somebody has said that it is seen. Of what was read
   * whole, and of files that were read again, those that are not among them close by themselves; so does the trouble of
   * a system that is in none.
   */
  saveSourceDecisions(
    lease: RunLease,
    sources: readonly SourceReading[],
    decisions: readonly DecisionDraft[],
    at: Instant,
  ): Promise<void>;
  /** How many decisions wait of each kind that did not wait when the run began. */
  newDecisions(lease: RunLease, begunAt: Instant): Promise<ReadonlyMap<DecisionKind, number>>;
  /** Opens or closes the decisions about the run itself (guards). */
  saveRunDecisions(lease: RunLease, decisions: readonly DecisionDraft[], at: Instant): Promise<void>;
}
