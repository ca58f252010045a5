import { type DecisionKind, subjectOf } from '@anchor-knot/contracts';
import {
  type Anchor,
  type AnchorId,
  type FieldId,
  type MemberId,
  recordId,
  type RecordKey,
  type Substitute,
  type TieReason,
  type Verdict,
} from '@anchor-knot/core';
import { tieFingerprint } from '../orchestration/fingerprint.js';
import { isOpen } from '../orchestration/planAnchors.js';
import {
  type BatchRequest,
  type BegunRun,
  LeaseLost,
  type RunLease,
  type RunRequest,
  type TakenBatch,
} from '../orchestration/lease.js';
import type { Store } from '../orchestration/store.js';
import type {
  AnchorIndex,
  EvidenceCandidates,
  FilteredRecord,
  IndexedRecord,
  Intent,
  JournalRow,
  Likeness,
  MemberCursor,
  OperationState,
  Outcomes,
  KnownList,
  OutsideOutcome,
  OutsideRecord,
  PlanEntry,
  RecordRef,
  RepeatedValue,
  RestingRecord,
  StagedNewcomer,
  StagedReading,
  StagedRecord,
  StoredAnchor,
  TieHead,
  WaitingReference,
  WantedNumbers,
} from '../orchestration/stored.js';
import type { AnchorRange, SharedPhase, TakenUp, WorkDone } from '../orchestration/batch.js';
import { type DecisionDraft, decisionIdentity, type SourceReading } from '../orchestration/decisionDraft.js';
import { emptyAccount, type MemberAccount, type RunProgress, type RunResult } from '../orchestration/runResult.js';

export interface KeptAnchor extends StoredAnchor {
  readonly open: boolean;
  readonly title: string;
  readonly index: AnchorIndex;
}

/** What tests look at. */
export interface KeptState {
  readonly anchors: readonly (readonly [AnchorId, KeptAnchor])[];
  readonly outside: readonly OutsideRecord[];
  readonly decisions: readonly DecisionDraft[];
  readonly intents: readonly Intent[];
}

interface KeptBatch {
  readonly phase: SharedPhase;
  readonly range: AnchorRange;
  token: number;
  leaseUntil: number | undefined;
  result: WorkDone | undefined;
}

interface OpenRun {
  readonly request: RunRequest;
  readonly lease: RunLease;
  leaseUntil: number;
  readonly staged: Map<string, StagedRecord & { why?: TieReason | undefined; isNew?: boolean }>;
  /** What complete listings have shown. */
  readonly listed: Set<string>;
  plan: PlanEntry[];
  batches: KeptBatch[];
  standing: TakenUp | undefined;
  stop: boolean;
  /** Identities of the decisions that waited when it began. */
  readonly known: ReadonlySet<string>;
}

/**
 * The store in memory, for one knot: the model that simulations run on and that the PostgreSQL store is held against.
 * Both pass the same suite.
 */
export class InMemoryStore implements Store {
  readonly journal: JournalRow[] = [];
  operations: {
    operation: PlanEntry['operations'][number];
    title: string;
    state: OperationState;
    words?: string | undefined;
    readonly run: string;
  }[] = [];
  results: RunResult[] = [];
  readonly #anchors = new Map<AnchorId, KeptAnchor>();
  #outside: OutsideRecord[] = [];
  readonly #filtered = new Map<string, RecordRef>();
  readonly #decisions = new Map<string, DecisionDraft>();
  readonly #intents = new Map<string, Intent>();
  #cursors: Map<MemberId, MemberCursor> = new Map();
  /** By check and member: the value of each record. */
  /** Which numbers were taken, by thing and field. */
  readonly numbers = new Map<string, string>();
  readonly #unique = new Map<string, Map<RecordKey, string>>();
  #token = 0;
  #run: OpenRun | undefined;
  /** Which anchor each record is tied to; derived from the anchors. */
  readonly #tied = new Map<string, AnchorId>();
  readonly #keyed = new Map<string, Set<AnchorId>>();
  /** By block: the records of anchors that are in it. */
  readonly #blocks = new Map<number, Map<string, IndexedRecord & { readonly anchor: AnchorId }>>();
  #verdicts: readonly Verdict[] = [];
  /** Under which version each record rests. */
  readonly #resting = new Map<string, number>();
  /** By what those are found that rest, or rested until they were woken. */
  readonly #marks = new Map<string, RestingRecord>();
  #acts = 0;
  #indexedAs: string | undefined;

  state(): KeptState {
    return {
      anchors: [...this.#anchors],
      outside: this.#outside,
      decisions: [...this.#decisions.values()],
      intents: [...this.#intents.values()],
    };
  }

  async beginRun(request: RunRequest): Promise<BegunRun | undefined> {
    const open = this.#run;
    if (open && open.leaseUntil > request.now) return undefined;
    this.#token += 1;
    if (open?.standing?.soFar && open.lease.run === request.run) {
      this.#run = { ...open, leaseUntil: request.now + request.leaseMs, lease: { ...open.lease, token: this.#token } };
      for (const batch of this.#run.batches) {
        batch.token += 1;
        batch.leaseUntil = this.#run.leaseUntil;
      }
      return { ...this.#run.lease, takenUp: open.standing };
    }
    const lease = { run: request.run, knot: request.knot, token: this.#token };
    this.#run = {
      lease,
      leaseUntil: request.now + request.leaseMs,
      staged: new Map(),
      listed: new Set(),
      plan: [],
      batches: [],
      standing: undefined,
      request,
      stop: false,
      known: new Set(this.#decisions.keys()),
    };
    return lease;
  }

  async renewLease(lease: RunLease, now: number, leaseMs: number): Promise<{ stop: boolean }> {
    const run = this.#check(lease);
    const batch = lease.batch && run.batches[lease.batch.place];
    (batch ?? run).leaseUntil = now + leaseMs;
    return { stop: run.stop };
  }

  async saveProgress(lease: RunLease, _: RunProgress, now: number, leaseMs: number): Promise<{ stop: boolean }> {
    return this.renewLease(lease, now, leaseMs);
  }

  async endRun(lease: RunLease, result: RunResult, cursors: ReadonlyMap<MemberId, MemberCursor>): Promise<void> {
    this.#check(lease);
    for (const [member, cursor] of cursors) this.#cursors.set(member, cursor);
    this.results.push(result);
    this.#run = undefined;
  }

  async cursors(): Promise<ReadonlyMap<MemberId, MemberCursor>> {
    return this.#cursors;
  }

  async tieHeads(_: string, member: MemberId, keys: readonly RecordKey[]): Promise<ReadonlyMap<RecordKey, TieHead>> {
    const heads = new Map<RecordKey, TieHead>();
    for (const key of keys) {
      const anchor = this.#anchorOf(member, key);
      const tie = anchor?.anchor.ties.find((tie) => tie.member === member && tie.key === key);
      if (anchor && tie)
        heads.set(key, {
          anchor: anchor.anchor.id,
          fingerprint: tieFingerprint(tie),
          version: tie.version,
          gone: tie.gone ?? false,
          archived: tie.end === 'archived',
        });
    }
    return heads;
  }

  async tiedUnder(_knot: string, member: MemberId, beginnings: readonly string[]): Promise<readonly RecordKey[]> {
    return [...this.#anchors.values()]
      .flatMap(({ anchor }) => anchor.ties.filter((tie) => tie.member === member && !tie.gone))
      .map(({ key }) => key)
      .filter((key) => beginnings.some((beginning) => key.startsWith(beginning)));
  }

  async tieCounts(): Promise<ReadonlyMap<MemberId, number>> {
    const counts = new Map<MemberId, number>();
    for (const { anchor } of this.#anchors.values())
      for (const { member, gone } of anchor.ties) if (!gone) counts.set(member, (counts.get(member) ?? 0) + 1);
    return counts;
  }

  async noteListed(lease: RunLease, member: MemberId, keys: readonly RecordKey[]): Promise<void> {
    const { listed } = this.#check(lease);
    for (const key of keys) listed.add(recordId({ member, key }));
  }

  async unlisted(lease: RunLease, member: MemberId, list: KnownList, after: RecordKey | undefined, limit: number) {
    const { listed } = this.#check(lease);
    const lists: Readonly<Record<KnownList, () => readonly RecordRef[]>> = {
      tied: () => [...this.#anchors.values()].flatMap(({ anchor }) => anchor.ties.filter((tie) => !tie.gone)),
      outside: () => this.#outside,
      filtered: () => [...this.#filtered.values()],
    };
    return lists[list]()
      .filter((record) => record.member === member && (after === undefined || record.key > after))
      .filter((record) => !listed.has(recordId(record)))
      .map(({ key }) => key)
      .sort()
      .slice(0, limit);
  }

  async markGone(lease: RunLease, member: MemberId, keys: readonly RecordKey[], at: number): Promise<void> {
    this.#check(lease);
    const rows: JournalRow[] = [];
    for (const key of keys) {
      const kept = this.#anchorOf(member, key);
      if (!kept) continue;
      this.#keep({
        ...kept,
        revision: kept.revision + 1,
        open: true,
        anchor: {
          ...kept.anchor,
          ties: kept.anchor.ties.map((tie) =>
            tie.member === member && tie.key === key ? { ...tie, gone: true } : tie,
          ),
        },
      });
      rows.push({
        anchor: kept.anchor.id,
        member,
        key,
        kind: 'gone',
        field: undefined,
        before: undefined,
        after: undefined,
        meaning: undefined,
        cause: undefined,
        at,
      });
    }
    this.journal.push(...rows);
  }

  async outside(_?: string, restingUnder?: number): Promise<readonly OutsideRecord[]> {
    return this.#outside.filter(
      (record) =>
        restingUnder === undefined || (!record.verdict && this.#resting.get(recordId(record)) !== restingUnder),
    );
  }

  async actsOf(): Promise<number> {
    return this.#acts;
  }

  async restingAmong(_: string, records: readonly RecordRef[]): Promise<readonly OutsideRecord[]> {
    const asked = new Set(records.map(recordId));
    return this.#outside.filter((record) => asked.has(recordId(record)));
  }

  async restingLike(_: string, likeness: Likeness): Promise<readonly OutsideRecord[]> {
    return this.#outside.filter((record) => {
      const marks = !record.verdict ? this.#marks.get(recordId(record)) : undefined;
      return marks && (this.#isLike(marks, likeness) || this.#isDoubtful(marks, likeness));
    });
  }

  async letRest(lease: RunLease, version: number, acts: number, records: readonly RestingRecord[]): Promise<void> {
    this.#check(lease);
    for (const record of records) {
      const { member, key, reading, reason } = record;
      const name = recordId(record);
      const before = this.#outside.find((one) => recordId(one) === name);
      if (this.#tied.has(name) || before?.verdict) continue;
      this.#outside = [...this.#outside.filter((one) => one !== before), { member, key, reading, reason }];
      this.#resting.delete(name);
      this.#marks.delete(name);
      if (acts !== this.#acts) continue;
      this.#resting.set(name, reason === 'untied' ? version : -version);
      this.#marks.set(name, record);
    }
  }

  async noteLeft(lease: RunLease, records: readonly RecordRef[]): Promise<void> {
    this.#check(lease);
    for (const record of records) this.#resting.set(recordId(record), 0);
  }

  #wake(records: readonly RecordRef[]): void {
    for (const name of records.map(recordId)) if (this.#resting.get(name) !== 0) this.#resting.delete(name);
  }

  #isLike(
    resting: RestingRecord,
    { keys, blocks, records }: Omit<Likeness, 'blocks'> & { blocks: readonly { block: number }[] },
  ): boolean {
    const isNamed = ({ a, b }: Verdict): boolean =>
      records.some((one) => [a, b].some((named) => recordId(named) === recordId(one))) &&
      [a, b].some((named) => recordId(named) === recordId(resting));
    return (
      keys.some(([rule, key]) => resting.keys.some(([own, value]) => own === rule && value === key)) ||
      blocks.some(({ block }) => resting.blocks.includes(block)) ||
      this.#verdicts.some(isNamed)
    );
  }

  /** Whether it is in doubt about an anchor that would be found so, or about what these records are in doubt about. */
  #isDoubtful({ doubts: { anchors, records: named } }: RestingRecord, { keys, blocks, records }: Likeness): boolean {
    const peers = records.flatMap((record) => this.#marks.get(recordId(record))?.doubts ?? []);
    const isPeer = (name: string): boolean =>
      peers.some((peer) => peer.records.some((record) => recordId(record) === name));
    return (
      named.some((record) => isPeer(recordId(record))) ||
      anchors.some(
        (anchor) =>
          records.some(({ member, key }) => this.#anchorOf(member, key)?.anchor.id === anchor) ||
          peers.some((peer) => peer.anchors.includes(anchor)) ||
          keys.some(([rule, key]) => this.#keyed.get(`${rule}\u001f${key}`)?.has(anchor)) ||
          blocks.some(({ block }) => [...(this.#blocks.get(block)?.values() ?? [])].some((at) => at.anchor === anchor)),
      )
    );
  }

  async stage(lease: RunLease, records: readonly StagedRecord[]): Promise<void> {
    const { staged } = this.#check(lease);
    for (const record of records) {
      staged.set(recordId(record), { ...record, isNew: record.anchor === undefined });
      for (const { check, value } of record.unique ?? []) {
        const name = JSON.stringify([check, record.member]);
        const values = this.#unique.get(name) ?? new Map<RecordKey, string>();
        if (value === undefined) values.delete(record.key);
        else values.set(record.key, value);
        this.#unique.set(name, values);
      }
    }
  }

  async changeReadings(
    lease: RunLease,
    records: readonly (RecordRef & Pick<StagedRecord, 'reading'>)[],
  ): Promise<void> {
    const { staged } = this.#check(lease);
    for (const { reading, ...ref } of records)
      staged.set(recordId(ref), { ...(staged.get(recordId(ref)) as StagedRecord), reading });
  }

  async repeatedValues(lease: RunLease): Promise<readonly RepeatedValue[]> {
    const { staged } = this.#check(lease);
    return [...this.#unique].sort().flatMap(([name, values]) => {
      const [check, member] = JSON.parse(name) as [string, MemberId];
      const isPresent = (key: RecordKey): boolean =>
        staged.has(recordId({ member, key })) ||
        this.#resting.has(recordId({ member, key })) ||
        this.#anchorOf(member, key)?.anchor.ties.some(
          (tie) => tie.member === member && tie.key === key && !tie.gone,
        ) === true;
      const present = [...values].filter(([key]) => isPresent(key)).toSorted(([a], [b]) => (a < b ? -1 : 1));
      const counts = new Map<string, number>();
      for (const [, value] of present) counts.set(value, (counts.get(value) ?? 0) + 1);
      return present.flatMap(([key, value]) =>
        (counts.get(value) ?? 0) > 1 ? [{ check, member, key, isStaged: staged.has(recordId({ member, key })) }] : [],
      );
    });
  }

  async rejectedTies(lease: RunLease): Promise<readonly RecordRef[]> {
    this.#check(lease);
    return [...this.#anchors.values()].flatMap(({ anchor }) =>
      anchor.ties.filter((tie) => tie.rejected && !tie.gone).map(({ member, key }) => ({ member, key })),
    );
  }

  async *stagedNewcomers(lease: RunLease): AsyncIterable<readonly StagedNewcomer[]> {
    const newcomers = [...this.#check(lease).staged.values()].filter(({ anchor }) => anchor === undefined);
    yield newcomers.map(({ member, key, matchKeys, texts = [], reading }) => ({
      member,
      key,
      matchKeys,
      texts,
      isRejected: (reading.rejected?.length ?? 0) > 0,
    }));
  }

  async stagedReadings(lease: RunLease, refs: readonly RecordRef[]) {
    const { staged } = this.#check(lease);
    return refs.flatMap((ref) => staged.get(recordId(ref)) ?? []);
  }

  async anchorsWithKeys(_: string, keys: readonly (readonly [number, string])[]) {
    return keys.flatMap(([rule, key]) =>
      [...(this.#keyed.get(`${rule}\u001f${key}`) ?? [])].map((anchor) => ({ rule, key, anchor })),
    );
  }

  async tiesOf(_: string, anchors: readonly AnchorId[]) {
    return anchors.flatMap((id) =>
      (this.#anchors.get(id)?.anchor.ties ?? []).map(({ member, key, gone = false }) => ({
        anchor: id,
        member,
        key,
        gone,
      })),
    );
  }

  /** There is one knot, and its definition is not kept here. */
  async keyRulesOf(): Promise<readonly never[]> {
    return [];
  }

  async agreedTexts(_: string, field: FieldId, anchors: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, string>> {
    return new Map(
      anchors.flatMap((id) => {
        const value = this.#anchors.get(id)?.anchor.agreed[field]?.value;
        return typeof value === 'string' ? [[id, value]] : [];
      }),
    );
  }

  async referringCounts(ids: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, number>> {
    const counts = new Map<AnchorId, number>();
    for (const { anchor, index } of this.#anchors.values())
      for (const id of new Set(index.references?.map((reference) => reference.anchor)))
        if (ids.includes(id) && anchor.ties.some(({ gone }) => !gone)) counts.set(id, (counts.get(id) ?? 0) + 1);
    return counts;
  }

  async thingsAbove(field: FieldId, things: readonly AnchorId[]): Promise<readonly (readonly [AnchorId, AnchorId])[]> {
    const above = new Map<AnchorId, AnchorId>();
    const asked = [...things];
    for (let thing = asked.pop(); thing !== undefined; thing = asked.pop()) {
      const to = this.#anchors.get(thing)?.index.references?.find((one) => one.field === field)?.anchor;
      if (to === undefined || above.has(thing)) continue;
      above.set(thing, to);
      asked.push(to);
    }
    return [...above];
  }

  async waitingWithin(
    knot: string,
    after: AnchorId | undefined,
    limit: number,
  ): Promise<readonly (WaitingReference & { readonly anchor: AnchorId })[]> {
    return [...this.#decisions.values()]
      .flatMap((draft) => {
        if (draft.kind !== 'waiting' || draft.anchor === undefined || draft.detail.knot !== knot) return [];
        const { by, value, thing } = draft.detail;
        return [{ anchor: draft.anchor, knot, by, value, thing }];
      })
      .filter(({ anchor }) => after === undefined || anchor > after)
      .toSorted((one, other) => (one.anchor < other.anchor ? -1 : 1))
      .slice(0, limit);
  }

  async takeNumbers(_: RunLease, wanted: WantedNumbers): Promise<ReadonlyMap<AnchorId, string>> {
    const { series, field, anchors } = wanted;
    for (const anchor of anchors) {
      const thing = `${anchor} ${field}`;
      if (!this.numbers.has(thing)) this.numbers.set(thing, `${series}${this.numbers.size + 1}`);
    }
    return new Map(anchors.map((anchor) => [anchor, this.numbers.get(`${anchor} ${field}`) as string]));
  }

  async nextNumbers(series: string, count: number): Promise<readonly string[]> {
    return Array.from({ length: count }, (_, place) => `${series}${this.numbers.size + 1 + place}`);
  }

  /** Nobody says anything here. */
  async substitutesOf(): Promise<readonly Substitute[]> {
    return [];
  }

  async goneAmong(things: readonly AnchorId[]): Promise<readonly AnchorId[]> {
    return things.filter((id) => this.#anchors.get(id)?.anchor.ties.every(({ gone }) => gone));
  }

  /** Nobody merges anchors in a simulation. */
  async redirects(): Promise<ReadonlyMap<AnchorId, AnchorId>> {
    return new Map();
  }

  async assign(
    lease: RunLease,
    records: readonly (RecordRef & { anchor: AnchorId; why: TieReason | undefined })[],
  ): Promise<void> {
    const { staged } = this.#check(lease);
    for (const { anchor, why, ...ref } of records)
      staged.set(recordId(ref), { ...(staged.get(recordId(ref)) as StagedRecord), anchor, why });
  }

  async verdicts(): Promise<readonly Verdict[]> {
    return this.#verdicts;
  }

  async indexedAs(): Promise<string | undefined> {
    return this.#indexedAs;
  }

  async anchorIds(_: string, after: AnchorId | undefined, limit: number): Promise<readonly AnchorId[]> {
    return [...this.#anchors.keys()]
      .sort()
      .filter((id) => after === undefined || id > after)
      .slice(0, limit);
  }

  async saveIndex(
    lease: RunLease,
    anchors: readonly { readonly anchor: AnchorId; readonly index: AnchorIndex }[],
  ): Promise<void> {
    this.#check(lease);
    for (const { anchor, index } of anchors) this.#keep({ ...(this.#anchors.get(anchor) as KeptAnchor), index });
  }

  async markIndexed(lease: RunLease, fingerprint: string): Promise<void> {
    this.#check(lease);
    this.#indexedAs = fingerprint;
  }

  async evidenceCandidates(
    _: string,
    newcomers: readonly (readonly { readonly block: number; readonly limit: number }[])[],
  ): Promise<EvidenceCandidates> {
    const places = new Map<string, number>();
    const records: EvidenceCandidates['records'][number][] = [];
    const add = (record: IndexedRecord & { readonly anchor: AnchorId }): number => {
      const id = recordId(record);
      if (!places.has(id)) {
        places.set(id, records.length);
        const { member, key, anchor, texts } = record;
        records.push({ member, key, anchor, texts });
      }
      return places.get(id) as number;
    };
    const found = newcomers.map((blocks) => {
      const own = new Set<number>();
      for (const { block, limit } of blocks) {
        const there = this.#blocks.get(block);
        if (there && there.size <= limit) for (const record of there.values()) own.add(add(record));
      }
      return [...own];
    });
    for (const anchor of new Set(records.map((record) => record.anchor)))
      for (const record of this.#anchors.get(anchor)?.index.evidence ?? []) add({ ...record, anchor });
    return { records, found };
  }

  async unstage(lease: RunLease, records: readonly RecordRef[]): Promise<void> {
    const { staged } = this.#check(lease);
    for (const ref of records) staged.delete(recordId(ref));
  }

  async noteFiltered(lease: RunLease, member: MemberId, records: readonly FilteredRecord[]): Promise<void> {
    this.#check(lease);
    for (const { key } of records) this.#filtered.set(recordId({ member, key }), { member, key });
  }

  async forgetFiltered(lease: RunLease, member: MemberId, keys: readonly RecordKey[]): Promise<void> {
    this.#check(lease);
    for (const key of keys) this.#filtered.delete(recordId({ member, key }));
  }

  async accounts(): Promise<ReadonlyMap<MemberId, MemberAccount>> {
    const counted = new Map<MemberId, MemberAccount>();
    const count = (member: MemberId, list: keyof MemberAccount): void => {
      const account = counted.get(member) ?? emptyAccount;
      counted.set(member, { ...account, [list]: account[list] + 1 });
    };
    for (const { anchor } of this.#anchors.values())
      for (const { member, gone } of anchor.ties) if (!gone) count(member, 'tied');
    for (const { member, reason, verdict } of this.#outside) count(member, verdict ?? reason);
    for (const { member } of this.#filtered.values()) count(member, 'filtered');
    return counted;
  }

  async saveOutside(lease: RunLease, { known, staying, decisions, version }: OutsideOutcome): Promise<void> {
    this.#check(lease);
    const tookPart = new Set([...known, ...staying].map(recordId));
    const untouched = this.#outside
      .filter((record) => record.reason !== 'untied' && !record.verdict)
      .map(recordId)
      .filter((name) => !tookPart.has(name));
    const kept = staying.filter(({ reason, verdict }) => reason !== 'untied' || verdict);
    const stays = new Set(staying.map(recordId));
    const gone = new Set([...known.filter((record) => !stays.has(recordId(record))), ...kept].map(recordId));
    const resting = new Set(staying.filter(({ verdict }) => !verdict).map(recordId));
    this.#wake([...known, ...staying].filter((record) => !resting.has(recordId(record))));
    for (const name of resting) if (this.#resting.get(name) === -version) this.#resting.set(name, version);
    for (const name of known.map(recordId).filter((known) => !stays.has(known))) {
      this.#marks.delete(name);
      this.#resting.delete(name);
    }
    const put = this.#outside.filter((record) => !gone.has(recordId(record)));
    this.#outside = [...put, ...kept].filter((record) => !this.#tied.has(recordId(record)));
    const waits = ({ member = '', key }: DecisionDraft): boolean =>
      key !== undefined && untouched.includes(recordId({ member, key }));
    this.#replaceDecisions((draft) => subjectOfDraft(draft) === 'record' && !waits(draft), decisions);
  }

  async blockedByResting(lease: RunLease, anchors: readonly AnchorId[]) {
    const { staged } = this.#check(lease);
    const blocked = new Map<AnchorId, Set<MemberId>>();
    for (const [name, { member, doubts }] of this.#marks)
      for (const anchor of staged.has(name) || this.#resting.get(name) === 0 ? [] : doubts.anchors)
        if (anchors.includes(anchor)) blocked.set(anchor, (blocked.get(anchor) ?? new Set()).add(member));
    return blocked;
  }

  async openBatches(lease: RunLease, phase: SharedPhase, standing: TakenUp, size: number): Promise<void> {
    const run = this.#check(lease);
    const ids = phase === 'planning' ? this.#toMerge(run) : run.plan.map(({ anchor }) => anchor).sort();
    run.standing = { ...standing, soFar: JSON.parse(JSON.stringify(standing.soFar)) as unknown };
    run.batches = [];
    for (let at = 0; at < ids.length; at += size) {
      const isLast = at + size >= ids.length;
      const range = { after: ids[at - 1], upTo: isLast ? undefined : ids[at + size - 1] };
      run.batches.push({ phase, range, token: 0, leaseUntil: undefined, result: undefined });
    }
  }

  async freeBatches(lease: RunLease): Promise<void> {
    for (const batch of this.#check(lease).batches) batch.leaseUntil = 0;
  }

  async takeBatch({ except = [], now, leaseMs }: BatchRequest): Promise<TakenBatch | undefined> {
    const run = this.#run;
    if (!run?.standing || run.leaseUntil <= now || except.includes(run.lease.run)) return undefined;
    const place = run.batches.findIndex((one) => !one.result && (one.leaseUntil ?? 0) < now);
    const batch = run.batches[place];
    if (!batch) return undefined;
    const isTakenOver = batch.leaseUntil !== undefined;
    batch.token += 1;
    batch.leaseUntil = now + leaseMs;
    const { phase, range } = batch;
    const { knotVersion, kind } = run.request;
    const lease = { ...run.lease, batch: { place, token: batch.token } };
    return { lease, phase, range, context: run.standing.context, knotVersion, kind, isTakenOver };
  }

  async endBatch(lease: RunLease, done: WorkDone): Promise<void> {
    (this.#check(lease).batches[lease.batch?.place ?? -1] as KeptBatch).result = done;
  }

  async giveBack(lease: RunLease): Promise<void> {
    const { batches } = this.#check(lease);
    (batches[lease.batch?.place ?? -1] as KeptBatch).leaseUntil = 0;
  }

  async batches(lease: RunLease): Promise<readonly (WorkDone | undefined)[]> {
    return this.#check(lease).batches.map(({ result }) => result);
  }

  #toMerge(run: OpenRun): AnchorId[] {
    const ids = new Set<AnchorId>();
    for (const { anchor } of run.staged.values()) if (anchor !== undefined) ids.add(anchor);
    for (const [id, { open }] of this.#anchors) if (open) ids.add(id);
    return [...ids].sort();
  }

  async anchorsToMerge(lease: RunLease, range: AnchorRange, limit: number): Promise<readonly AnchorId[]> {
    return this.#toMerge(this.#check(lease))
      .filter((id) => isWithin(range, id))
      .slice(0, limit);
  }

  async loadAnchors(lease: RunLease, ids: readonly AnchorId[]): Promise<ReadonlyMap<AnchorId, StoredAnchor>> {
    this.#check(lease);
    return new Map(
      ids.flatMap((id) => (this.#anchors.has(id) ? [[id, this.#anchors.get(id) as KeptAnchor] as const] : [])),
    );
  }

  async stagedFor(lease: RunLease, ids: readonly AnchorId[]) {
    const found = new Map<AnchorId, StagedReading[]>(ids.map((id) => [id, []]));
    for (const record of this.#check(lease).staged.values())
      if (record.anchor !== undefined)
        found.get(record.anchor)?.push({ ...record, isNew: record.isNew === true, why: record.why });
    return found;
  }

  async savePlan(lease: RunLease, entries: readonly PlanEntry[]): Promise<void> {
    const run = this.#check(lease);
    const again = new Set(entries.map(({ anchor }) => anchor));
    run.plan = [...run.plan.filter(({ anchor }) => !again.has(anchor)), ...entries];
    const isShown = ({ run: of, state, operation }: (typeof this.operations)[number]): boolean =>
      of === lease.run && state === 'planned' && again.has(operation.anchor);
    this.operations = this.operations.filter((shown) => !isShown(shown));
    for (const entry of entries)
      for (const operation of entry.operations)
        this.operations.push({ operation, title: entry.title, state: 'planned', run: lease.run });
  }

  async planned(lease: RunLease, range: AnchorRange, limit: number): Promise<readonly PlanEntry[]> {
    return this.#check(lease)
      .plan.filter(({ anchor }) => isWithin(range, anchor))
      .toSorted((a, b) => (a.anchor < b.anchor ? -1 : 1))
      .slice(0, limit);
  }

  async commitMerge(
    lease: RunLease,
    entries: readonly PlanEntry[],
    intents: readonly Intent[],
    journal: readonly JournalRow[],
  ): Promise<readonly AnchorId[]> {
    const run = this.#check(lease);
    const given = new Set(entries.map(({ anchor }) => anchor));
    run.plan = run.plan.filter(({ anchor }) => !given.has(anchor));
    const applied = entries.filter((entry) => (this.#anchors.get(entry.anchor)?.revision ?? 0) === entry.revision);
    const ids = new Set(applied.map(({ anchor }) => anchor));
    for (const entry of applied) {
      const open = entry.operations.length > 0 || isOpen(entry);
      const index = entry.index ?? this.#anchors.get(entry.anchor)?.index ?? { keys: [], evidence: [] };
      this.#keep({ anchor: entry.after, revision: entry.revision + 1, open, title: entry.title, index });
      this.#replaceDecisions(
        (draft) => draft.anchor === entry.anchor && subjectOfDraft(draft) === 'anchor',
        entry.decisions,
      );
    }
    for (const intent of intents) if (ids.has(intent.operation.anchor)) this.#intents.set(intent.id, intent);
    this.journal.push(...journal.filter(({ anchor }) => ids.has(anchor)));
    return [...ids];
  }

  async recordOutcomes(lease: RunLease, { anchors, writes, journal }: Outcomes): Promise<void> {
    this.#check(lease);
    for (const { revision: merged, outcome, applyTo } of anchors) {
      const current = this.#anchors.get(outcome.anchor.id);
      if (!current) continue;
      const isLate = current.revision !== merged;
      const ended = isLate ? applyTo(current.anchor) : outcome;
      const { anchor, open, decisions, title, index = current.index, parted = [] } = ended;
      this.#outside = this.#outside.map((record) => ({
        ...record,
        reading: parted.find((each) => recordId(each) === recordId(record))?.reading ?? record.reading,
      }));
      this.#keep({ anchor, revision: current.revision + 1, open, title, index });
      this.#replaceDecisions((draft) => draft.anchor === anchor.id && subjectOfDraft(draft) === 'anchor', decisions);
    }
    for (const { intent, operation, state, words } of writes) {
      if (state !== 'unclear') this.#intents.delete(intent);
      const shown = this.operations.findLast(
        (one) =>
          one.operation.anchor === operation.anchor &&
          one.operation.member === operation.member &&
          one.state === 'planned',
      );
      if (shown) Object.assign(shown, { state, words });
    }
    this.journal.push(...journal);
  }

  async writeCounts(lease: RunLease) {
    this.#check(lease);
    const counts = new Map<MemberId, { written: number; failed: number }>();
    for (const { run, operation, state } of this.operations) {
      if (state === 'planned' || run !== lease.run) continue;
      const { written, failed } = counts.get(operation.member) ?? { written: 0, failed: 0 };
      const isWritten = state === 'written' ? 1 : 0;
      counts.set(operation.member, { written: written + isWritten, failed: failed + 1 - isWritten });
    }
    return counts;
  }

  async openIntents(_?: string, range: AnchorRange = {}): Promise<readonly Intent[]> {
    return [...this.#intents.values()].filter(({ operation }) => isWithin(range, operation.anchor));
  }

  async markUnclear(lease: RunLease, intents: readonly string[]): Promise<void> {
    this.#check(lease);
    for (const id of intents) this.#intents.set(id, { ...(this.#intents.get(id) as Intent), unclear: true });
  }

  async newDecisions(lease: RunLease): Promise<ReadonlyMap<DecisionKind, number>> {
    const { known } = this.#check(lease);
    const counts = new Map<DecisionKind, number>();
    for (const [identity, { kind }] of this.#decisions)
      if (!known.has(identity)) counts.set(kind, (counts.get(kind) ?? 0) + 1);
    return counts;
  }

  async saveSourceDecisions(
    lease: RunLease,
    sources: readonly SourceReading[],
    decisions: readonly DecisionDraft[],
  ): Promise<void> {
    this.#check(lease);
    const kept = [...this.#decisions.values()].filter((draft) => {
      const source = subjectOfDraft(draft) === 'source' && sources.find(({ member }) => member === draft.member);
      if (!source || draft.kind === 'trouble') return false;
      return !source.isWhole && !(draft.kind === 'unusable' && source.files.includes(draft.detail.file ?? ''));
    });
    this.#replaceDecisions(
      (draft) => subjectOfDraft(draft) === 'source' && sources.some(({ member }) => member === draft.member),
      [...kept, ...decisions],
    );
  }

  async saveRunDecisions(lease: RunLease, decisions: readonly DecisionDraft[]): Promise<void> {
    this.#check(lease);
    this.#replaceDecisions((draft) => subjectOfDraft(draft) === 'run', decisions);
  }

  /** A person's change of an anchor, outside of a run: the next run merges it. */
  async changeAnchor(id: AnchorId, change: (anchor: Anchor) => Anchor): Promise<void> {
    const kept = this.#anchors.get(id) as KeptAnchor;
    this.#acts += 1;
    this.#keep({ ...kept, anchor: change(kept.anchor), revision: kept.revision + 1, open: true });
  }

  /** A person's word on two records. */
  async say(verdict: Verdict): Promise<void> {
    this.#acts += 1;
    this.#verdicts = [...this.#verdicts, verdict];
    this.#wake([verdict.a, verdict.b]);
  }

  /** A person sets a record aside, or takes that back. */
  async setAside(record: RecordRef, aside: boolean): Promise<void> {
    this.#acts += 1;
    const peers = { keys: [], blocks: [], records: [record] };
    this.#wake([...this.#marks.values()].filter((marks) => this.#isDoubtful(marks, peers)));
    const name = recordId(record);
    this.#outside = this.#outside.map((one) =>
      recordId(one) === name ? { ...one, verdict: aside ? 'aside' : undefined } : one,
    );
    this.#resting.delete(name);
  }

  #check(lease: RunLease): OpenRun {
    const run = this.#run;
    if (run?.lease.token !== lease.token) throw new LeaseLost(lease.run);
    if (lease.batch) {
      const batch = run.batches[lease.batch.place];
      if (batch?.token !== lease.batch.token || batch.result) throw new LeaseLost(lease.run);
    }
    return run;
  }

  #keep(kept: KeptAnchor): void {
    const { id } = kept.anchor;
    const before = this.#anchors.get(id);
    for (const { member, key } of before?.anchor.ties ?? []) this.#tied.delete(recordId({ member, key }));
    for (const [rule, key] of before?.index.keys ?? []) this.#keyed.get(`${rule}\u001f${key}`)?.delete(id);
    for (const record of before?.index.evidence ?? [])
      for (const block of record.blocks) this.#blocks.get(block)?.delete(recordId(record));
    this.#anchors.set(id, kept);
    for (const { member, key } of kept.anchor.ties) this.#tied.set(recordId({ member, key }), id);
    for (const record of kept.index.evidence) {
      for (const block of record.blocks)
        this.#blocks.set(
          block,
          (this.#blocks.get(block) ?? new Map<string, IndexedRecord & { readonly anchor: AnchorId }>()).set(
            recordId(record),
            { ...record, anchor: id },
          ),
        );
    }
    for (const [rule, key] of kept.index.keys) {
      const name = `${rule}\u001f${key}`;
      this.#keyed.set(name, (this.#keyed.get(name) ?? new Set()).add(id));
    }
    const blocks = kept.index.evidence.flatMap((record) => record.blocks.map((block) => ({ block })));
    const likeness = { keys: kept.index.keys, blocks, records: kept.anchor.ties };
    if (before && placeOf(before) === placeOf(kept)) return;
    this.#wake(
      [...this.#marks.values()].filter((marks) => this.#isLike(marks, likeness) || marks.doubts.anchors.includes(id)),
    );
  }

  #anchorOf(member: MemberId, key: RecordKey): KeptAnchor | undefined {
    const id = this.#tied.get(recordId({ member, key }));
    return id === undefined ? undefined : this.#anchors.get(id);
  }

  #replaceDecisions(which: (draft: DecisionDraft) => boolean, drafts: readonly DecisionDraft[]): void {
    for (const [identity, draft] of this.#decisions) if (which(draft)) this.#decisions.delete(identity);
    for (const draft of drafts) this.#decisions.set(decisionIdentity(draft), draft);
  }
}

/** What newcomers are tied by. */
function placeOf({ anchor: { ties }, index }: KeptAnchor): string {
  return JSON.stringify([ties.map(({ member, key, gone }) => [member, key, gone]), index]);
}

function isWithin({ after, upTo }: AnchorRange, id: AnchorId): boolean {
  return (after === undefined || id > after) && (upTo === undefined || id <= upTo);
}

const subjectOfDraft = ({ kind, anchor }: DecisionDraft) => subjectOf(kind, anchor !== undefined);
