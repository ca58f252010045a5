import pLimit from 'p-limit';
import { type AnchorId, breachedGuards, type GuardBreach, type CompiledMember, type MemberId } from '@anchor-knot/core';
import type { Connector } from '@anchor-knot/connectors';
import { applyPlan, type Applied, membersUndone } from './applyPlan.js';
import { allDone, type PlanContext, type SharedPhase, type TakenUp } from './batch.js';
import { CallLog } from './callLog.js';
import { closeAll, connectMembers } from './connectMembers.js';
import { decisionsOfGuards } from './decisions.js';
import { inPart, nothingBegins, stateOf, whatWasRead, worthAnotherTry } from './endOfRun.js';
import { settleGone } from './findGone.js';
import { keepIndex } from './indexAnchors.js';
import type { Installation, RunOptions } from './installation.js';
import { matchNewcomers } from './matchNewcomers.js';
import { accountsOf, OutsideRecords } from './outsideRecords.js';
import { planAgain } from './planAgain.js';
import { mergedAtOnce, pagesToMerge, planAnchors } from './planAnchors.js';
import { type MemberReading, readMember } from './readMembers.js';
import { rejectRepeated } from './rejectRepeated.js';
import { resolveIntents } from './resolveIntents.js';
import type { BegunRun, MemberCursor, RunLease } from './store.js';
import type { MemberTrouble, RunProgress, RunResult } from './runResult.js';
import { shareWork } from './shareWork.js';
import { keptReading, type Matched, matchedSoFar, type Planned, readingOf, type RunSoFar } from './soFar.js';
import { Tally } from './tally.js';
import { together } from './together.js';
import { decisionsOfSources } from './sourceDecisions.js';

/** Anchors whose records change while we write are merged again this often; what still races waits for the next run. */
const mostPasses = 3;
/** Anchors in a part of a run that another worker may take. */
const usualBatchSize = 2000;
/** A run that leaves more records outside of anchors is not taken up when its worker dies: the next one begins anew. */
const mostCarried = 50_000;
/** How often progress is told and the lease kept, at most. */
const beatMs = 250;
/** What could not be taken is told of in decisions; a run names the first ones. */
const mostNoted = 100;

export type RunEnd =
  { readonly kind: 'ended'; readonly run: string; readonly result: RunResult } | { readonly kind: 'busy' };

/** Thrown inside a run to leave it before its first write. */
class Halt extends Error {
  readonly state: RunResult['state'];
  readonly guards: RunResult['guards'];
  constructor(state: RunResult['state'], words: string, guards: RunResult['guards'] = []) {
    super(words);
    this.state = state;
    this.guards = guards;
  }
}

/**
 * One run of a knot: read, translate, match, merge, plan, write, record. A dry run is the same up to the plan.
 * Errors of systems and records are part of the result; anything thrown is a fault of the installation itself, after
 * which the next run takes up where this one stood.
 */
export async function runKnot(installation: Installation, options: RunOptions): Promise<RunEnd> {
  const run = options.run ?? installation.nextId();
  const begunAt = installation.clock.now();
  const lease = await installation.store.beginRun({
    run,
    knot: options.knot.id,
    knotVersion: options.knotVersion,
    kind: options.kind,
    startedBy: options.startedBy,
    cause: options.cause,
    now: begunAt,
    leaseMs: options.leaseMs,
  });
  if (!lease) return { kind: 'busy' };
  const ended = options.whileRunning?.(lease);
  try {
    return { kind: 'ended', run, result: await new KnotRun(installation, options, lease, begunAt).drive() };
  } finally {
    ended?.();
  }
}

type ResumedRun = TakenUp & { readonly soFar: RunSoFar };

class KnotRun {
  readonly #installation: Installation;
  readonly #options: RunOptions;
  readonly #lease: RunLease;
  /** Where it stood, when another worker drove it before. */
  readonly #takenUp: ResumedRun | undefined;
  readonly #tally: Tally;
  readonly #connectors = new Map<MemberId, Connector>();
  readonly #troubles = new Map<MemberId, MemberTrouble>();
  readonly #notes: MemberTrouble[] = [];
  readonly #readings = new Map<MemberId, MemberReading>();
  /** Complete listings that lack too many records to be believed. */
  readonly #shortListings: GuardBreach[] = [];
  /** Members that did not take a write, and may take it another time. */
  readonly #undone = new Set<MemberId>();
  readonly #calls: CallLog;
  readonly #begunAt: number;
  #stopAsked = false;
  /** Other workers had a part in it. */
  #isShared = false;
  #lastBeat = 0;

  constructor(installation: Installation, options: RunOptions, lease: BegunRun, begunAt: number) {
    this.#installation = installation;
    this.#options = options;
    this.#lease = lease;
    this.#tally = new Tally(options.knot, () => installation.clock.now());
    this.#calls = new CallLog(installation.clock);
    this.#takenUp = lease.takenUp as ResumedRun | undefined;
    this.#begunAt = this.#takenUp?.soFar.begunAt ?? begunAt;
    if (this.#takenUp) this.#goOn(this.#takenUp.soFar);
  }

  async drive(): Promise<RunResult> {
    const { store, clock } = this.#installation;
    const { knot } = this.#options;
    let cursors: ReadonlyMap<MemberId, MemberCursor> = new Map();
    let result: RunResult;
    try {
      cursors = await this.#steps();
      const failed = [...this.#readings.values()].map(({ trouble }) => trouble !== undefined);
      const troubles = [...this.#troubles.values()].map(({ words }) => words);
      const untied = knot.members.reduce((sum, { id }) => sum + this.#tally.of(id).accounts.untied, 0);
      result = this.#result(
        stateOf(this.#stopAsked, troubles.length, failed),
        troubles.length > 0 ? troubles.join(' ') : nothingBegins(knot, untied),
      );
      if (this.#stopAsked) cursors = new Map();
    } catch (error) {
      if (!(error instanceof Halt)) throw error;
      result = { ...this.#result(error.state, error.message), guards: error.guards };
    } finally {
      await closeAll(this.#connectors);
    }
    this.#tally.begin('done');
    result = { ...result, progress: this.#progress(), now: clock.now() };
    if (this.#options.kind === 'run') {
      await this.#tellOfSources();
      result = inPart(result, await store.newDecisions(this.#lease, this.#begunAt));
    }
    await this.#options.beforeEnd?.(result);
    await store.endRun(this.#lease, result, this.#options.kind === 'run' ? cursors : new Map());
    return result;
  }

  async #steps(): Promise<ReadonlyMap<MemberId, MemberCursor>> {
    const { knot, kind } = this.#options;
    const connected = await connectMembers(this.#installation, knot.members, this.#calls);
    for (const [member, connector] of connected.connectors) this.#connectors.set(member, connector);
    for (const trouble of connected.troubles) this.#note(trouble);
    const isOld = this.#takenUp !== undefined;
    if (!isOld) this.#tally.begin('resolving');
    const resolved =
      kind === 'run'
        ? await resolveIntents(
            this.#installation,
            this.#options,
            this.#lease,
            this.#connectors,
            isOld ? { stopped: () => this.#stopAsked } : undefined,
          )
        : { unclear: new Map<AnchorId, Set<MemberId>>(), troubles: [], ends: [] };
    for (const trouble of resolved.troubles) this.#note(trouble);
    if (isOld) {
      for (const member of membersUndone(resolved.ends)) this.#undone.add(member);
      // Not before: who takes a part looks up what was left behind in it, and nobody is to write it twice.
      await this.#installation.store.freeBatches(this.#lease);
    }

    const matched = this.#takenUp
      ? matchedSoFar(this.#takenUp.soFar, this.#takenUp.context)
      : await this.#match(resolved.unclear);
    const planned = this.#takenUp?.soFar.planned ?? (await this.#plan(matched));
    if (!this.#isWriting) {
      this.#tally.countLeftAlone(matched.ties, planned.updatedButHeld);
      await this.#guard(matched.ties);
    }
    if (kind === 'run' && !this.#stopAsked) await this.#write(matched, planned);
    // What a worker wrote that died before it could tell is counted, too.
    if (this.#isShared) this.#tally.setWrites(await this.#installation.store.writeCounts(this.#lease));
    // Last, so that a record leaves the outside only when its anchor is stored; the next run drops those that are tied.
    if (kind === 'run' && !this.#stopAsked)
      await this.#installation.store.saveOutside(
        this.#lease,
        matched.known,
        matched.staying,
        matched.decisions,
        this.#installation.clock.now(),
      );
    return new Map(
      [...this.#readings].flatMap(([member, { cursor }]) =>
        cursor && !this.#unsettled.has(member) ? [[member, cursor] as const] : [],
      ),
    );
  }

  /** Reads, and ties what is new to anchors. */
  async #match(unclear: PlanContext['unclear']): Promise<Matched> {
    const { store } = this.#installation;
    const { knot } = this.#options;
    const outside = await this.#read();
    this.#tally.begin('matching');
    await keepIndex(store, knot, this.#lease, () => this.#beat());
    const matched = await matchNewcomers(this.#installation, this.#options, this.#lease, outside, this.#tally, () =>
      this.#beat(),
    );
    await this.#beat();
    // Before planning settles what needs no write.
    const ties = new Map(await store.tieCounts(knot.id));
    const revived = [...this.#readings].map(([member, reading]) => [member, reading.revived] as const);
    for (const [member, count] of [...matched.tied, ...revived]) ties.set(member, (ties.get(member) ?? 0) + count);
    this.#tally.setAccounts(await accountsOf(store, knot, ties, outside, matched.outside));
    const context: PlanContext = {
      blocked: matched.blocked,
      unclear,
      troubled: new Set(this.#troubles.keys()),
      partlyRead: this.#partlyRead,
    };
    return { context, ties, known: outside.known, staying: matched.outside, decisions: matched.decisions };
  }

  /** Members of which it is not known whether a thing is there already. */
  get #partlyRead(): ReadonlySet<MemberId> {
    const isWhole = ({ id }: CompiledMember): boolean => {
      const reading = this.#readings.get(id);
      return reading?.unusable.length === 0 && !reading.isNamed;
    };
    return new Set(this.#options.knot.members.filter((member) => !isWhole(member)).map(({ id }) => id));
  }

  /** Members of which something was read and not settled: they are read from there again. */
  readonly #unsettled = new Set<MemberId>();

  async #read(): Promise<OutsideRecords> {
    const { knot } = this.#options;
    const { store } = this.#installation;
    this.#tally.begin('reading');
    const outside = await OutsideRecords.begin(store, this.#options, this.#lease);
    const cursors = await store.cursors(knot.id);
    // Under another version a record may say something else, also one that nobody has touched.
    const isAsked = ({ id }: CompiledMember): boolean =>
      (this.#options.members?.has(id) ?? true) || cursors.get(id)?.knotVersion !== this.#options.knotVersion;
    const unasked = knot.members.filter((member) => !isAsked(member));
    await this.#readMembers(knot.members.filter(isAsked), outside, cursors);
    await this.#readMembers(
      unasked.filter(({ id }) => this.#options.records?.has(id)),
      outside,
      cursors,
      this.#options.records,
    );
    // What is new in one may be new in another as well, that did not tell of it yet.
    if ([...this.#readings.values()].some(({ newcomers }) => newcomers > 0))
      await this.#readMembers(unasked, outside, cursors);
    const stopping = await rejectRepeated(this.#installation, this.#options, this.#lease, outside);
    if (stopping !== undefined) throw new Halt('stopped by a check', stopping);
    return outside;
  }

  /** @param named records that alone are read of their members */
  async #readMembers(
    members: readonly CompiledMember[],
    outside: OutsideRecords,
    cursors: ReadonlyMap<MemberId, MemberCursor>,
    named?: RunOptions['records'],
  ): Promise<void> {
    const oneByOne = pLimit(1);
    await together(members, async (member, failed) => {
      const connector = this.#connectors.get(member.id);
      if (!connector || this.#troubles.has(member.id)) return;
      const afterPage = async (): Promise<void> => {
        if (failed()) throw new Error('the reading of another member failed');
        await this.#beat();
      };
      const read = () =>
        readMember(
          this.#installation,
          this.#options,
          this.#lease,
          member,
          connector,
          outside,
          this.#tally,
          afterPage,
          cursors.get(member.id),
          named?.get(member.id),
        );
      const reading = await (connector.capabilities.heldWhole ? oneByOne(read) : read());
      this.#readings.set(member.id, reading);
      if (reading.trouble) this.#note(reading.trouble);
    });
    for (const { id } of members) {
      const reading = this.#readings.get(id);
      if (reading) await this.#afterReading(id, reading, outside);
    }
  }

  async #afterReading(
    member: MemberId,
    { listed, deleted, unusable, stopping }: MemberReading,
    outside: OutsideRecords,
  ): Promise<void> {
    if (stopping !== undefined) throw new Halt('stopped by a check', stopping);
    for (const { reason } of unusable.slice(0, mostNoted))
      this.#notes.push({
        member,
        code: 'record unusable',
        words: reason,
        advice: 'Correct it in its system; the others were read. Until then nothing new is created there.',
      });
    const { doubted, trouble } = await settleGone(
      this.#installation,
      this.#lease,
      member,
      this.#connectors.get(member) as Connector,
      { deleted, listed },
      outside,
      this.#options.overGuards === true,
    );
    if (doubted !== undefined) this.#shortListings.push({ member, says: doubted });
    if (trouble) this.#note(trouble);
  }

  /** What a record is told is an update of it, too; but not what is told of writes that the guards have let pass. */
  #countsOf(member: MemberId, ties: number) {
    const { create, update, archive, delete: deleted, 'write back': told } = this.#tally.of(member);
    return { creates: create, updates: update + told, removals: archive + deleted, ties };
  }

  async #guard(ties: ReadonlyMap<MemberId, number>): Promise<void> {
    const { knot, overGuards, kind } = this.#options;
    const counts = new Map(knot.members.map(({ id }) => [id, this.#countsOf(id, ties.get(id) ?? 0)]));
    const breaches = overGuards ? [] : breachedGuards(knot, counts);
    if (kind !== 'run') return;
    const systemName = (member: MemberId): string => this.#installation.systemName(member);
    const decisions = decisionsOfGuards(systemName, breaches, this.#shortListings);
    await this.#installation.store.saveRunDecisions(this.#lease, decisions, this.#installation.clock.now());
    if (breaches.length > 0)
      throw new Halt(
        'stopped by a guard',
        breaches.map(({ member, says }) => `${systemName(member)}: ${says}`).join('; '),
        breaches,
      );
  }

  get #batchSize(): number {
    return this.#options.batchSize ?? usualBatchSize;
  }

  /** Few anchors are planned at once; what is more is shared with whoever is free. */
  async #plan(matched: Matched): Promise<Planned> {
    if (this.#takenUp) return this.#share();
    this.#tally.begin('planning');
    const size = Math.min(mergedAtOnce, this.#batchSize);
    const pages = pagesToMerge(this.#installation.store, this.#lease, {}, size);
    const first = await pages.next();
    if (!first.done && first.value.length === size) {
      await this.#open('planning', matched, null);
      return this.#share();
    }
    const page = async function* () {
      if (!first.done) yield first.value;
    };
    const { context } = matched;
    return planAnchors(this.#installation, this.#options, this.#lease, context, page(), this.#tally, () =>
      this.#beat(),
    );
  }

  /** Opens a phase to other workers, and says where the run stands, for the one that goes on should this one die. */
  async #open(phase: SharedPhase, matched: Matched, planned: Planned | null): Promise<void> {
    const { context, ties, known, staying, decisions } = matched;
    const soFar: RunSoFar = {
      begunAt: this.#begunAt,
      phases: this.#tally.phases,
      tally: this.#tally.tallies,
      calls: this.#calls.snapshot(),
      troubles: [...this.#troubles.values()],
      notes: this.#notes,
      shortListings: this.#shortListings,
      readings: [...this.#readings].map(([member, reading]) => [member, keptReading(reading)]),
      ties: [...ties],
      known,
      staying,
      decisions,
      planned,
    };
    const isCarried = known.length + staying.length <= mostCarried;
    const standing = { soFar: isCarried ? soFar : null, context };
    await this.#installation.store.openBatches(this.#lease, phase, standing, this.#batchSize);
  }

  #goOn(soFar: RunSoFar): void {
    this.#tally.takeUp(soFar.tally, soFar.phases);
    this.#calls.addAll(soFar.calls);
    for (const trouble of soFar.troubles) this.#note(trouble);
    this.#notes.push(...soFar.notes);
    this.#shortListings.push(...soFar.shortListings);
    for (const [member, reading] of soFar.readings) this.#readings.set(member, readingOf(reading));
  }

  async #share(): Promise<ReturnType<typeof allDone>> {
    this.#isShared = true;
    const before = this.#tally.done;
    const parts = await shareWork(this.#installation, this.#options, this.#lease, async (done) => {
      this.#tally.done = before + done;
      await this.#beat();
    });
    for (const { tally, calls } of parts) {
      this.#tally.addAll(tally);
      this.#calls.addAll(calls);
    }
    return allDone(parts);
  }

  /** A file that is written whole can be written by one worker at a time. */
  get #canShareWrites(): boolean {
    return [...this.#connectors.values()].every(({ capabilities }) => capabilities.heldWhole !== true);
  }

  /** The writing was opened to others by the worker that drove the run before. */
  get #isWriting(): boolean {
    return this.#takenUp !== undefined && this.#takenUp.soFar.planned !== null;
  }

  /** @param count of the anchors with something to be written */
  async #apply(matched: Matched, planned: Planned, count: number): Promise<Applied> {
    if (this.#canShareWrites && count > this.#batchSize) {
      await this.#open('writing', matched, planned);
      return this.#share();
    }
    return applyPlan({
      installation: this.#installation,
      options: this.#options,
      lease: this.#lease,
      connectors: this.#connectors,
      context: matched.context,
      tally: this.#tally,
      range: {},
      afterBatch: () => this.#beat(),
      stopped: () => this.#stopAsked,
    });
  }

  async #write(before: Matched, planned: Planned): Promise<void> {
    if (!this.#isWriting) this.#tally.begin('writing');
    let count = planned.toWrite;
    // What was read before another worker wrote is not merged again: the next run reads it.
    for (let pass = this.#takenUp ? mostPasses : 1; ; pass += 1) {
      const context = { ...before.context, troubled: new Set(this.#troubles.keys()) };
      const matched = { ...before, context };
      const applied = this.#isWriting ? await this.#share() : await this.#apply(matched, planned, count);
      for (const trouble of applied.troubles) this.#note(trouble);
      for (const member of applied.undone) this.#undone.add(member);
      const late = pass === 1 || this.#takenUp ? [...planned.late, ...applied.late] : applied.late;
      count = applied.raced.length + late.length;
      if (this.#stopAsked || count === 0) return;
      if (pass >= mostPasses) {
        // What somebody else changed each time is read again by the next run.
        if (late.length > 0) for (const { id } of this.#options.knot.members) this.#unsettled.add(id);
        return;
      }
      await planAgain(
        this.#installation,
        this.#options,
        this.#lease,
        new Map([...this.#connectors].filter(([member]) => !this.#troubles.has(member))),
        { ...applied, late },
        { ...context, troubled: new Set(this.#troubles.keys()) },
        (trouble) => this.#note(trouble),
      );
    }
  }

  #note(trouble: MemberTrouble): void {
    if (!this.#troubles.has(trouble.member)) this.#troubles.set(trouble.member, trouble);
  }

  /** However the run ends: what is wrong with a system, or with what it gave, is not forgotten by the next one. */
  async #tellOfSources(): Promise<void> {
    const { store, clock } = this.#installation;
    const systemName = (member: MemberId): string => this.#installation.systemName(member);
    const { sources, decisions } = decisionsOfSources(systemName, this.#readings, this.#troubles);
    await store.saveSourceDecisions(this.#lease, sources, decisions, clock.now());
  }

  /** After each page and batch: tell how far it is, keep the lease, and see whether somebody asked to stop. */
  async #beat(): Promise<void> {
    const { store, clock } = this.#installation;
    const progress = this.#progress();
    this.#options.onProgress?.(progress);
    if (clock.now() - this.#lastBeat < beatMs) return;
    this.#lastBeat = clock.now();
    const { stop } = await store.saveProgress(this.#lease, progress, clock.now(), this.#options.leaseMs);
    if ((stop || this.#options.signal?.aborted) && this.#tally.phase !== 'writing')
      throw new Halt('stopped', 'it was stopped before anything was written');
    this.#stopAsked ||= stop || (this.#options.signal?.aborted ?? false);
  }

  #progress(): RunProgress {
    return { ...this.#tally.snapshot(), calls: this.#calls.snapshot() };
  }

  #result(state: RunResult['state'], words: string | undefined): RunResult {
    return {
      state,
      progress: this.#progress(),
      troubles: [...this.#troubles.values(), ...this.#notes],
      guards: [],
      words,
      // Who stops a run does not want it tried again.
      tryAgain: this.#stopAsked ? [] : worthAnotherTry(this.#troubles, this.#undone),
      ...whatWasRead(state, this.#readings, this.#unsettled, this.#tally),
      now: this.#installation.clock.now(),
    };
  }
}
