import type { GuardBreach, Instant, MemberId } from '@anchor-knot/core';
import type { Connector } from '@anchor-knot/connectors';
import type { TakenUp } from './batch.js';
import { CallLog } from './callLog.js';
import { closeAll, connectMembers } from './connectMembers.js';
import { whatWasRead, worthAnotherTry } from './endOfRun.js';
import type { Installation, RunOptions } from './installation.js';
import type { BegunRun, RunLease } from './lease.js';
import type { MemberReading } from './readMembers.js';
import type { MemberTrouble, RunProgress, RunResult } from './runResult.js';
import { keptReading, type Matched, type Planned, readingOf, type RunSoFar } from './soFar.js';
import { Tally } from './tally.js';

/** A run that leaves more records outside of anchors is not taken up when its worker dies: the next one begins anew. */
const mostCarried = 50_000;
/** How often progress is told and the lease kept, at most. */
const beatMs = 250;

/** Thrown inside a run to leave it before its first write. */
export class Halt extends Error {
  readonly state: RunResult['state'];
  readonly guards: RunResult['guards'];
  constructor(state: RunResult['state'], words: string, guards: RunResult['guards'] = []) {
    super(words);
    this.state = state;
    this.guards = guards;
  }
}

/** A run on the worker that drives it: what it has come to, which each of its phases adds to, and how that is told. */
export class RunAtWork {
  readonly installation: Installation;
  readonly options: RunOptions;
  readonly lease: RunLease;
  /** Where it stood, when another worker drove it before. */
  readonly takenUp: (TakenUp & { readonly soFar: RunSoFar }) | undefined;
  readonly begunAt: Instant;
  readonly tally: Tally;
  readonly calls: CallLog;
  readonly connectors = new Map<MemberId, Connector>();
  readonly troubles = new Map<MemberId, MemberTrouble>();
  readonly notes: MemberTrouble[] = [];
  readonly readings = new Map<MemberId, MemberReading>();
  /** Complete listings that lack too many records to be believed. */
  readonly shortListings: GuardBreach[] = [];
  /** Members that did not take a write, and may take it another time. */
  readonly undone = new Set<MemberId>();
  /** Members of which something was read and not settled: they are read from there again. */
  readonly unsettled = new Set<MemberId>();
  isStopAsked = false;
  /** Other workers had a part in it. */
  isShared = false;
  #lastBeat = 0;

  constructor(installation: Installation, options: RunOptions, lease: BegunRun, begunAt: Instant) {
    this.installation = installation;
    this.options = options;
    this.lease = lease;
    this.tally = new Tally(options.knot, () => installation.clock.now());
    this.calls = new CallLog(installation.clock);
    this.takenUp = lease.takenUp as typeof this.takenUp;
    this.begunAt = this.takenUp?.soFar.begunAt ?? begunAt;
    if (this.takenUp) this.#goOn(this.takenUp.soFar);
  }

  async connect(): Promise<void> {
    const connected = await connectMembers(this.installation, this.options.knot.members, this.calls);
    for (const [member, connector] of connected.connectors) this.connectors.set(member, connector);
    this.note(connected.troubles);
  }

  async close(): Promise<void> {
    await closeAll(this.connectors);
  }

  /** Of each member the first trouble counts. */
  note(troubles: readonly MemberTrouble[]): void {
    for (const trouble of troubles) if (!this.troubles.has(trouble.member)) this.troubles.set(trouble.member, trouble);
  }

  /**
   * After each page and batch: tell how far it is, keep the lease, and see whether somebody asked to stop.
   * @throws {Halt} when somebody did, before anything was written
   */
  readonly beat = async (): Promise<void> => {
    const { store, clock } = this.installation;
    const progress = this.progress;
    this.options.onProgress?.(progress);
    if (clock.now() - this.#lastBeat < beatMs) return;
    this.#lastBeat = clock.now();
    const { stop } = await store.saveProgress(this.lease, progress, clock.now(), this.options.leaseMs);
    const isAsked = stop || (this.options.signal?.aborted ?? false);
    if (isAsked && this.tally.phase !== 'writing')
      throw new Halt('stopped', 'it was stopped before anything was written');
    this.isStopAsked ||= isAsked;
  };

  get progress(): RunProgress {
    return { ...this.tally.snapshot(), calls: this.calls.snapshot() };
  }

  result(state: RunResult['state'], words: string | undefined): RunResult {
    return {
      state,
      progress: this.progress,
      troubles: [...this.troubles.values(), ...this.notes],
      guards: [],
      words,
      // Who stops a run does not want it tried again.
      tryAgain: this.isStopAsked ? [] : worthAnotherTry(this.troubles, this.undone),
      ...whatWasRead(state, this.readings, this.unsettled, this.tally),
      now: this.installation.clock.now(),
    };
  }

  /** Where it stands, for the worker that goes on should this one die. */
  standing({ context, ties, known, staying, decisions }: Matched, planned: Planned | null): TakenUp {
    if (known.length + staying.length > mostCarried) return { soFar: null, context };
    const soFar: RunSoFar = {
      begunAt: this.begunAt,
      phases: this.tally.phases,
      tally: this.tally.tallies,
      calls: this.calls.snapshot(),
      troubles: [...this.troubles.values()],
      notes: this.notes,
      shortListings: this.shortListings,
      readings: [...this.readings].map(([member, reading]) => [member, keptReading(reading)]),
      ties: [...ties],
      known,
      staying,
      decisions,
      planned,
    };
    return { soFar, context };
  }

  #goOn(soFar: RunSoFar): void {
    this.tally.takeUp(soFar.tally, soFar.phases);
    this.calls.addAll(soFar.calls);
    this.note(soFar.troubles);
    this.notes.push(...soFar.notes);
    this.shortListings.push(...soFar.shortListings);
    for (const [member, reading] of soFar.readings) this.readings.set(member, readingOf(reading));
  }
}
