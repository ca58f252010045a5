import type { SqlConnection, SqlDatabase } from './sql.js';
import type { AnchorId, FieldId, MemberId, Reading, RecordKey, TieReason } from '@anchor-knot/core';
import { changeAnchors, recordsGone, storeIfUnchanged } from '../anchors/door.js';
import { isOpen } from '../orchestration/planAnchors.js';
import type { BatchRequest, RunLease, RunRequest } from '../orchestration/lease.js';
import type { Store } from '../orchestration/store.js';
import type {
  AnchorIndex,
  AnchorOutcome,
  FilteredRecord,
  Intent,
  JournalRow,
  Likeness,
  MemberCursor,
  Outcomes,
  KnownList,
  OutsideOutcome,
  PlanEntry,
  RecordRef,
  RestingRecord,
  StagedRecord,
  WantedNumbers,
} from '../orchestration/stored.js';
import type { AnchorRange, SharedPhase, TakenUp, WorkDone } from '../orchestration/batch.js';
import type { DecisionDraft, SourceReading } from '../orchestration/decisionDraft.js';
import type { RunProgress, RunResult } from '../orchestration/runResult.js';
import * as anchors from './tables/anchors.js';
import * as batches from './tables/runBatches.js';
import * as decisions from './tables/decisions.js';
import * as evidenceIndex from './tables/evidenceIndex.js';
import * as journal from './tables/journal.js';
import * as listed from './tables/listedRecords.js';
import * as outside from './tables/outsideRecords.js';
import * as plans from './tables/plans.js';
import * as references from './tables/references.js';
import * as series from './tables/series.js';
import * as substitutes from './tables/substitutes.js';
import { recordCounts } from './tables/recordCounts.js';
import * as resting from './tables/restingRecords.js';
import * as runs from './tables/runs.js';
import * as staged from './tables/stagedRecords.js';
import * as ties from './tables/ties.js';
import * as uniqueValues from './tables/uniqueValues.js';
import * as verdicts from './tables/verdicts.js';

/**
 * The store in PostgreSQL. Here it is said what is one transaction; the statements are in `tables/`, and their number
 * never depends on the number of records.
 */
export class PostgresStore implements Store {
  readonly #data: SqlDatabase;

  constructor(data: SqlDatabase) {
    this.#data = data;
  }

  beginRun = (request: RunRequest) => this.#data.transaction((db) => runs.openRun(db, request));
  renewLease = (lease: RunLease, now: number, leaseMs: number) => runs.renewLease(this.#data, lease, now, leaseMs);
  saveProgress = (lease: RunLease, progress: RunProgress, now: number, leaseMs: number) =>
    runs.saveProgress(this.#data, lease, progress, now, leaseMs);
  endRun = (lease: RunLease, result: RunResult, cursors: ReadonlyMap<MemberId, MemberCursor>) =>
    runs.withLease(this.#data, lease, (db) => runs.closeRun(db, lease, result, cursors), 'end');
  cursors = (knot: string) => runs.cursorsOf(this.#data, knot);

  tieHeads = (knot: string, member: MemberId, keys: readonly RecordKey[]) =>
    anchors.tieHeads(this.#data, knot, member, keys);
  tiedUnder = (knot: string, member: MemberId, beginnings: readonly string[]) =>
    ties.tiedUnder(this.#data, knot, member, beginnings);
  tieCounts = (knot: string) => recordCounts(this.#data, knot, 'tied');
  markGone = (lease: RunLease, member: MemberId, keys: readonly RecordKey[], at: number) =>
    runs.withLease(this.#data, lease, (db) => recordsGone(db, lease, member, keys, at));

  noteListed = (lease: RunLease, member: MemberId, keys: readonly RecordKey[]) =>
    runs.withLease(this.#data, lease, (db) => listed.noteListed(db, lease, member, keys));
  unlisted = (lease: RunLease, member: MemberId, list: KnownList, after: RecordKey | undefined, limit: number) =>
    listed.unlisted(this.#data, lease, member, list, after, limit);

  outside = (knot: string, restingUnder?: number) => outside.outsideRecords(this.#data, knot, restingUnder);
  actsOf = (knot: string) => resting.actsOf(this.#data, knot);
  restingAmong = (knot: string, records: readonly RecordRef[]) => resting.restingAmong(this.#data, knot, records);
  restingLike = (knot: string, likeness: Likeness) => resting.restingLike(this.#data, knot, likeness);
  letRest = (lease: RunLease, version: number, acts: number, records: readonly RestingRecord[]) =>
    runs.withLease(this.#data, lease, (db) => resting.letRest(db, lease, version, acts, records));
  noteLeft = (lease: RunLease, records: readonly RecordRef[]) =>
    runs.withLease(this.#data, lease, (db) => resting.noteLeft(db, lease, records));
  stage = (lease: RunLease, records: readonly StagedRecord[]) =>
    runs.withLease(this.#data, lease, (db) => staged.stage(db, lease, records));
  unstage = (lease: RunLease, records: readonly RecordRef[]) =>
    runs.withLease(this.#data, lease, (db) => staged.unstage(db, lease, records));
  stagedNewcomers = (lease: RunLease) => staged.stagedNewcomers(this.#data, lease);
  stagedReadings = (lease: RunLease, refs: readonly RecordRef[]) => staged.stagedReadings(this.#data, lease, refs);
  changeReadings = (lease: RunLease, records: readonly (RecordRef & { readonly reading: Reading })[]) =>
    runs.withLease(this.#data, lease, (db) => staged.changeReadings(db, lease, records));
  repeatedValues = (lease: RunLease, checks: readonly string[]) =>
    uniqueValues.repeatedValues(this.#data, lease, checks);
  rejectedTies = (lease: RunLease) => ties.rejectedTies(this.#data, lease.knot);
  anchorsWithKeys = (knot: string, keys: readonly (readonly [rule: number, key: string])[]) =>
    anchors.anchorsWithKeys(this.#data, knot, keys);
  tiesOf = (knot: string, ids: readonly AnchorId[]) => ties.tiesOf(this.#data, knot, ids);
  keyRulesOf = (knot: string) => references.keyRulesOf(this.#data, knot);
  agreedTexts = (knot: string, field: FieldId, ids: readonly AnchorId[]) =>
    references.agreedTexts(this.#data, knot, field, ids);
  referringCounts = (ids: readonly AnchorId[]) => references.referringCounts(this.#data, ids);
  thingsAbove = (field: FieldId, things: readonly AnchorId[]) => references.thingsAbove(this.#data, field, things);
  waitingWithin = (knot: string, after: AnchorId | undefined, limit: number) =>
    references.waitingWithin(this.#data, knot, after, limit);
  takeNumbers = (lease: RunLease, wanted: WantedNumbers, at: number) =>
    runs.withLease(this.#data, lease, (db) => series.takeNumbers(db, lease, wanted, at));
  nextNumbers = (id: string, count: number, at: number) => series.nextNumbers(this.#data, id, count, at);
  substitutesOf = (knot: string, about: substitutes.AboutSubstitutes) =>
    substitutes.substitutesOf(this.#data, knot, about);
  goneAmong = (things: readonly AnchorId[]) => ties.goneAmong(this.#data, things);
  redirects = (ids: readonly AnchorId[]) => references.redirects(this.#data, ids);

  assign = (
    lease: RunLease,
    records: readonly (RecordRef & { readonly anchor: AnchorId; readonly why: TieReason | undefined })[],
  ) => runs.withLease(this.#data, lease, (db) => staged.assign(db, lease, records));

  verdicts = (knot: string) => verdicts.verdictsOf(this.#data, knot);
  indexedAs = (knot: string) => evidenceIndex.indexedAs(this.#data, knot);
  anchorIds = (knot: string, after: AnchorId | undefined, limit: number) =>
    anchors.anchorIds(this.#data, knot, after, limit);
  saveIndex = (lease: RunLease, indexed: readonly { readonly anchor: AnchorId; readonly index: AnchorIndex }[]) =>
    runs.withLease(this.#data, lease, async (db) => {
      await anchors.saveIndex(db, lease.knot, indexed);
    });
  markIndexed = (lease: RunLease, fingerprint: string) =>
    runs.withLease(this.#data, lease, (db) => evidenceIndex.markIndexed(db, lease.knot, fingerprint));
  evidenceCandidates = (
    knot: string,
    newcomers: readonly (readonly { readonly block: number; readonly limit: number }[])[],
  ) => evidenceIndex.evidenceCandidates(this.#data, knot, newcomers);

  async saveOutside(lease: RunLease, outcome: OutsideOutcome, at: number): Promise<void> {
    const { known, staying } = outcome;
    await runs.withLease(this.#data, lease, async (db) => {
      await outside.keepOutsideRecords(db, lease, outcome);
      const scope = { of: 'outside', records: [...known, ...staying] } as const;
      await decisions.replaceDecisions(db, lease.knot, scope, outcome.decisions, at);
    });
  }
  blockedByResting = (lease: RunLease, anchors: readonly AnchorId[]) =>
    resting.blockedByResting(this.#data, lease, anchors);

  noteFiltered = (lease: RunLease, member: MemberId, records: readonly FilteredRecord[]) =>
    runs.withLease(this.#data, lease, (db) => outside.noteFiltered(db, lease, member, records));
  forgetFiltered = (lease: RunLease, member: MemberId, keys: readonly RecordKey[]) =>
    runs.withLease(this.#data, lease, (db) => outside.forgetFiltered(db, lease, member, keys));
  accounts = (knot: string) => outside.accounts(this.#data, knot);

  openBatches = (lease: RunLease, phase: SharedPhase, standing: TakenUp, size: number) =>
    runs.withLease(this.#data, lease, (db) => batches.openBatches(db, lease, phase, standing, size), 'change');
  freeBatches = (lease: RunLease) => runs.withLease(this.#data, lease, (db) => batches.freeBatches(db, lease));
  takeBatch = (request: BatchRequest) => batches.takeBatch(this.#data, request);
  endBatch = (lease: RunLease, done: WorkDone) =>
    runs.withLease(this.#data, lease, (db) => batches.endBatch(db, lease, done));
  giveBack = (lease: RunLease) => batches.giveBack(this.#data, lease);
  batches = (lease: RunLease) => batches.batchResults(this.#data, lease);

  anchorsToMerge = (lease: RunLease, range: AnchorRange, limit: number) =>
    staged.anchorsToMerge(this.#data, lease, range, limit);
  loadAnchors = (_: RunLease, ids: readonly AnchorId[]) => anchors.loadAnchors(this.#data, ids);
  stagedFor = (lease: RunLease, ids: readonly AnchorId[]) => staged.stagedFor(this.#data, lease, ids);
  savePlan = (lease: RunLease, entries: readonly PlanEntry[]) =>
    runs.withLease(this.#data, lease, (db) => plans.savePlan(db, lease, entries));
  planned = (lease: RunLease, range: AnchorRange, limit: number) => plans.planned(this.#data, lease, range, limit);

  async commitMerge(
    lease: RunLease,
    entries: readonly PlanEntry[],
    intents: readonly Intent[],
    rows: readonly JournalRow[],
    at: number,
  ): Promise<readonly AnchorId[]> {
    return runs.withLease(this.#data, lease, async (db) => {
      await plans.forgetPlanned(
        db,
        lease,
        entries.map(({ anchor }) => anchor),
      );
      const applied = await storeIfUnchanged(
        db,
        lease.knot,
        entries.map((entry) => ({
          revision: entry.revision,
          came: entry.came,
          save: {
            anchor: entry.after,
            open: entry.operations.length > 0 || isOpen(entry),
            title: entry.title,
            index: entry.index,
          },
        })),
        at,
      );
      const drafts = entries.filter(({ anchor }) => applied.has(anchor)).flatMap((entry) => entry.decisions);
      await decisions.replaceDecisions(db, lease.knot, { of: 'anchors', anchors: [...applied] }, drafts, at);
      const stored = intents.filter(({ operation }) => applied.has(operation.anchor));
      await journal.storeIntents(db, lease, stored, at);
      const kept = rows.filter(({ anchor }) => applied.has(anchor));
      await journal.writeJournal(db, lease, kept);
      const given = entries.filter(({ anchor }) => applied.has(anchor));
      const numbers = given.flatMap(({ anchor, numbers: own = [] }) => own.map((number) => ({ ...number, anchor })));
      await series.giveNumbers(db, lease, numbers, at);
      return [...applied];
    });
  }

  async recordOutcomes(lease: RunLease, outcomes: Outcomes, at: number): Promise<void> {
    await runs.withLease(this.#data, lease, async (db) => {
      const drafts: DecisionDraft[] = [];
      const ids = await this.#storeOutcomes(db, lease, outcomes, drafts, at);
      await decisions.replaceDecisions(db, lease.knot, { of: 'anchors', anchors: ids }, drafts, at);
      const known = outcomes.writes.filter(({ state }) => state !== 'unclear').map(({ intent }) => intent);
      await journal.closeIntents(db, known);
      await plans.recordStates(db, lease, outcomes.writes);
      await journal.writeJournal(db, lease, outcomes.journal);
    });
  }

  /** @returns the anchors that are there still; their decisions are added to the drafts */
  async #storeOutcomes(
    db: SqlConnection,
    lease: RunLease,
    { anchors: changed }: Outcomes,
    drafts: DecisionDraft[],
    at: number,
  ): Promise<AnchorId[]> {
    const { knot } = lease;
    const onTime = await storeIfUnchanged(
      db,
      knot,
      changed.map(({ revision, outcome }) => ({ revision, save: outcome, came: [] })),
      at,
    );
    for (const { outcome } of changed) if (onTime.has(outcome.anchor.id)) drafts.push(...outcome.decisions);
    const late = new Map(changed.map((change) => [change.outcome.anchor.id, change.applyTo]));
    for (const id of onTime) late.delete(id);
    if (late.size === 0) return [...onTime];
    const parted: NonNullable<AnchorOutcome['parted']>[number][] = [];
    const found = await changeAnchors(
      db,
      knot,
      [...late.keys()],
      ({ anchor }) => {
        const outcome = late.get(anchor.id)?.(anchor);
        drafts.push(...(outcome?.decisions ?? []));
        parted.push(...(outcome?.parted ?? []));
        return outcome;
      },
      at,
    );
    await outside.renewReadings(db, knot, parted);
    // What this run had read of them is older.
    await staged.changeReadings(db, lease, parted);
    return [...onTime, ...found.keys()];
  }

  writeCounts = (lease: RunLease) => plans.writeCounts(this.#data, lease);
  openIntents = (knot: string, range?: AnchorRange) => journal.openIntents(this.#data, knot, range);
  markUnclear = (lease: RunLease, intents: readonly string[]) =>
    runs.withLease(this.#data, lease, (db) => journal.markUnclear(db, intents));
  async saveSourceDecisions(
    lease: RunLease,
    sources: readonly SourceReading[],
    drafts: readonly DecisionDraft[],
    at: number,
  ): Promise<void> {
    if (drafts.length === 0 && !(await decisions.areAnyOpen(this.#data, lease.knot, 'sources'))) return;
    await runs.withLease(this.#data, lease, (db) =>
      decisions.replaceSourceDecisions(db, lease.knot, sources, drafts, at),
    );
  }
  newDecisions = (lease: RunLease, begunAt: number) => decisions.newDecisions(this.#data, lease.knot, begunAt);
  async saveRunDecisions(lease: RunLease, drafts: readonly DecisionDraft[], at: number): Promise<void> {
    if (drafts.length === 0 && !(await decisions.areAnyOpen(this.#data, lease.knot, 'run'))) return;
    await runs.withLease(this.#data, lease, (db) =>
      decisions.replaceDecisions(db, lease.knot, { of: 'run' }, drafts, at),
    );
  }
}
