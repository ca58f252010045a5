import type {
  AnchorId,
  FieldId,
  Instant,
  KeyRule,
  MemberId,
  Reading,
  RecordKey,
  Substitute,
  TieReason,
  Verdict,
} from '@anchor-knot/core';
import type { AnchorRange, SharedPhase, TakenUp, WorkDone } from './batch.js';
import type { DecisionDraft, SourceReading } from './decisionDraft.js';
import type { DecisionKind } from '@anchor-knot/contracts';
import type { BatchRequest, BegunRun, RunLease, RunRequest, TakenBatch } from './lease.js';
import type { MemberAccount, MemberTally, RunProgress, RunResult } from './runResult.js';
import type {
  TieHead,
  RecordRef,
  TieRef,
  StagedReading,
  StagedRecord,
  RepeatedValue,
  StagedNewcomer,
  OutsideRecord,
  KnownList,
  RestingRecord,
  OutsideOutcome,
  Likeness,
  StoredAnchor,
  PlanEntry,
  AnchorIndex,
  EvidenceCandidates,
  Intent,
  JournalRow,
  Outcomes,
  FilteredRecord,
  MemberCursor,
  WaitingReference,
  WantedNumbers,
} from './stored.js';

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
   * @param restingUnder a version of the knot; those that rest under it, and those that are set aside, are left out
   */
  outside(knot: string, restingUnder?: number): Promise<readonly OutsideRecord[]>;
  /** How often people have acted on anchors until now. */
  actsOf(knot: string): Promise<number>;
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
  /** What stands above some things by a field, and above that, up to the top: each thing, and the one above it. */
  thingsAbove(
    field: FieldId,
    things: readonly AnchorId[],
  ): Promise<readonly (readonly [thing: AnchorId, above: AnchorId])[]>;
  /** References of things of a knot that wait for others of it, in the order of the things, after one. */
  waitingWithin(
    knot: string,
    after: AnchorId | undefined,
    limit: number,
  ): Promise<readonly (WaitingReference & { readonly anchor: AnchorId })[]>;
  /** Those of some things that have no record left in any member. */
  goneAmong(things: readonly AnchorId[]): Promise<readonly AnchorId[]>;
  /** Of anchors that became part of others, which they are now. */
  redirects(anchors: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, AnchorId>>;
  /** What somebody has said of values and things of a knot by which nothing, or which by nothing, is known. */
  substitutesOf(
    knot: string,
    about: { readonly values: readonly string[]; readonly things: readonly AnchorId[] },
  ): Promise<readonly Substitute[]>;
  /**
   * Takes numbers of a series. Those that were taken by a run which has ended and were not stored are taken again.
   * @returns by thing; fewer than wanted at the end of the series, and none where there is no such series
   */
  takeNumbers(lease: RunLease, wanted: WantedNumbers, at: Instant): Promise<ReadonlyMap<AnchorId, string>>;
  /** What the next numbers of a series would be; `undefined` where there is no such series. */
  nextNumbers(series: string, count: number, at: Instant): Promise<readonly string[] | undefined>;
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
