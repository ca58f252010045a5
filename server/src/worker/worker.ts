import type { Logger } from 'pino';
import type { DataSource } from 'typeorm';
import { v7 as uuid } from 'uuid';
import type { Clock } from '@anchor-knot/connectors';
import { mostNamedRecords, recordAddress } from '@anchor-knot/contracts';
import { recordKey, type Timing } from '@anchor-knot/core';
import type { LoadedKnot, Knots } from '../knots/knots.js';
import { LeaseLost, type RunLease, type TakenBatch } from '../orchestration/store.js';
import type { Installation, RunOptions } from '../orchestration/installation.js';
import type { RunResult } from '../orchestration/runResult.js';
import { type RunEnd, runKnot } from '../orchestration/runKnot.js';
import { partsAtOnce } from '../orchestration/shareWork.js';
import { workBatch } from '../orchestration/workBatch.js';
import { jobChannel } from '../persistence/channels.js';
import { listen, type Listener } from '../persistence/listener.js';
import type { PostgresStore } from '../persistence/postgresStore.js';
import { ExchangeRecorder } from '../runs/exchangeRecorder.js';
import type { FollowUps } from '../notices/followUps.js';
import type { Notices } from '../notices/notices.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { dropOldNotices } from '../persistence/tables/notices.js';
import { detailRuns, dropOldExchanges, noteDetail } from '../persistence/tables/exchanges.js';
import { dropReadHours } from '../persistence/tables/readHours.js';
import { dropRunDays } from '../persistence/tables/runDays.js';
import { dropQuietRuns } from '../persistence/tables/timings.js';
import { knotStates } from '../persistence/tables/versions.js';
import { endAsFailed } from '../persistence/tables/runLists.js';
import type { SystemObjects } from '../systems/objects.js';
import type { Systems } from '../systems/systems.js';
import type { WebhookInbox } from '../systems/webhooks.js';
import { memberSummaries } from '../views/summaries.js';
import type { Scheduler } from '../triggers/scheduler.js';
import type { Timings } from '../triggers/timings.js';
import type { ProfileJob, RunJob, RunQueue } from './jobs.js';
import { systemClock } from './systemClock.js';

const idlePollMs = 2000;
const checkMs = 60_000;
const dueMs = 1000;
/** How often it is looked what people are to be told of. */
const noticeMs = 5000;
/** Runs that nobody started, and that found nothing, are kept for so long. */
const quietDays = 2;
/** Calls that were kept for somebody to look into. */
const exchangeHours = 24;
/** What is over, and what was sent of it, is kept for so long. */
const noticeDays = 90;
/** How long a run waits before it asks again for a knot that another run holds. */
const busyWaitMs = 500;
/** A run waits so long for those of other knots that are to come before it. */
const longestOrderMs = 15 * 60_000;
/** A system of which nothing was heard for so long is looked after. */
const silentMinutes = 10;
/** Systems that say themselves what fields they have are asked so often whether these are the same. */
const unaskedMinutes = 60;

export interface WorkerParts {
  readonly url: string;
  readonly data: DataSource;
  readonly store: PostgresStore;
  readonly knots: Knots;
  readonly systems: Systems;
  readonly objects: SystemObjects;
  readonly inbox: WebhookInbox;
  readonly queue: RunQueue;
  readonly scheduler: Scheduler;
  readonly timings: Timings;
  readonly notices: Notices;
  readonly followUps: FollowUps;
  readonly log: Logger;
  readonly leaseMs: number;
  /** How many anchors a part of a run has. */
  readonly batchSize?: number | undefined;
}

/** Takes runs from the queue and drives them. Any number of workers may do so, on any machine. */
export class Worker {
  readonly #parts: WorkerParts;
  readonly #clock: Clock = systemClock;
  readonly #stopping = new AbortController();
  readonly #active = new Set<Promise<void>>();
  #listener: Listener | undefined;
  #wake: () => void = () => undefined;
  /** One profile at a time: it reads a whole object, and runs come first. */
  #profiling = false;
  /** How many parts of runs that others drive it is at. */
  #helping = 0;
  #checking = false;
  #checkedAt = 0;
  #startedDueAt = 0;
  #toldAt = 0;
  #telling = false;

  constructor(parts: WorkerParts) {
    this.#parts = parts;
  }

  /** Works until it is stopped. */
  async work(): Promise<void> {
    await this.#listen();
    let lookedForOrphans = 0;
    while (!this.#stopping.signal.aborted) {
      try {
        if (Date.now() - lookedForOrphans > Math.min(10_000, this.#parts.leaseMs)) {
          lookedForOrphans = Date.now();
          await this.#parts.queue.takeUpOrphans(this.#parts.leaseMs / 1000);
        }
        await this.#startDue();
        if (!this.#telling && Date.now() - this.#toldAt > noticeMs) this.#tell();
        if (!this.#checking && Date.now() - this.#checkedAt > checkMs) this.#checkSystems();
        const job = await this.#parts.queue.fetch();
        if (job) {
          const work = this.#run(job.id, job.data).finally(() => {
            this.#active.delete(work);
            // What was asked for meanwhile waits for nothing else.
            this.#wake();
          });
          this.#active.add(work);
          continue;
        }
        if (this.#helping < partsAtOnce && (await this.#help())) continue;
        const wanted = this.#profiling ? undefined : await this.#parts.queue.fetchProfile();
        if (wanted) {
          this.#profiling = true;
          const work = this.#profile(wanted.id, wanted.data).finally(() => {
            this.#profiling = false;
            this.#active.delete(work);
            this.#wake();
          });
          this.#active.add(work);
          continue;
        }
      } catch (error) {
        this.#parts.log.error({ err: error }, 'the queue cannot be read');
      }
      await this.#idle();
    }
    await Promise.allSettled(this.#active);
    await this.#listener?.close();
  }

  /** Slots are looked at once a second; whatever goes wrong with them keeps nothing else from being done. */
  async #startDue(): Promise<void> {
    const { scheduler, log } = this.#parts;
    if (Date.now() - this.#startedDueAt < dueMs) return;
    this.#startedDueAt = Date.now();
    await scheduler.startDue(this.#clock).catch((error: unknown) => {
      log.error({ err: error }, 'what is due cannot be started');
    });
  }

  /** Systems drop subscriptions whose deliveries failed, and fall ill between runs; nobody tells. */
  #checkSystems(): void {
    const { data, systems, objects, inbox, log } = this.#parts;
    this.#checking = true;
    this.#checkedAt = Date.now();
    const steps: readonly (() => Promise<void>)[] = [
      () => systems.watch(silentMinutes),
      () => inbox.checkAll(),
      () => objects.lookForChanges(unaskedMinutes),
      () => dropQuietRuns(data, quietDays),
      () => dropOldNotices(data, noticeDays),
      () => dropReadHours(data),
      () => dropRunDays(data),
      () => dropOldExchanges(data, exchangeHours),
    ];
    const checkAll = async (): Promise<void> => {
      for (const step of steps)
        await step().catch((error: unknown) => log.error({ err: error }, 'systems cannot be checked'));
    };
    const work = checkAll().finally(() => {
      this.#checking = false;
      this.#active.delete(work);
    });
    this.#active.add(work);
  }

  /** People are told in their own time: nothing waits for a mail server. */
  #tell(): void {
    const { notices, followUps, log } = this.#parts;
    this.#telling = true;
    this.#toldAt = Date.now();
    const now = (): Date => new Date(this.#clock.now());
    const tell = async (): Promise<void> => {
      await notices.find(now);
      await followUps.tell(now());
      await notices.send(now);
    };
    const work = tell()
      .catch((error: unknown) => log.error({ err: error }, 'nobody can be told of what happens'))
      .finally(() => {
        this.#telling = false;
        this.#active.delete(work);
      });
    this.#active.add(work);
  }

  stop(): void {
    this.#stopping.abort();
    this.#wake();
  }

  async #listen(): Promise<void> {
    // Without notifications the worker still polls.
    this.#listener = await listen(
      this.#parts.url,
      'anchor-knot-worker',
      [jobChannel],
      () => this.#wake(),
      () => (this.#listener = undefined),
    );
  }

  async #idle(): Promise<void> {
    await new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, Math.min(idlePollMs, this.#parts.leaseMs));
      this.#wake = () => {
        clearTimeout(timer);
        resolve();
      };
    });
  }

  async #run(id: string, job: RunJob): Promise<void> {
    const { queue, log } = this.#parts;
    const lost = new AbortController();
    let sentAs: string | undefined;
    try {
      const { timing } = await this.#parts.timings.of(job.knot);
      await this.#waitForOthers(id, job, timing);
      let end = await this.#drive(id, job, timing, lost);
      // Another run holds the knot: this one follows it, under the same id.
      while (end?.kind === 'busy' && !this.#stopping.signal.aborted) {
        await queue.keepWaiting(id);
        await this.#clock.sleep(busyWaitMs, this.#stopping.signal);
        end = await this.#drive(id, job, timing, lost);
      }
      if (!end) return;
      if (end.kind === 'busy') {
        sentAs = await queue.send(job);
        return;
      }
      log.info({ run: id, knot: job.knot, kind: job.kind, state: end.result.state }, 'run ended');
    } catch (error) {
      if (error instanceof LeaseLost) log.warn({ run: id, knot: job.knot }, 'another worker took this run over');
      else {
        log.error({ err: error, run: id, knot: job.knot }, 'run failed');
        await this.#endAsFailed(id);
      }
    } finally {
      await queue.complete(id, sentAs).catch(() => undefined);
    }
  }

  /** A run that nobody asked for waits for those of knots that come before; not for ever, where they always run. */
  async #waitForOthers(id: string, { kind, cause }: RunJob, { after = [] }: Timing): Promise<void> {
    if (kind !== 'run' || cause === 'person') return;
    const { queue } = this.#parts;
    const latest = Date.now() + longestOrderMs;
    while (Date.now() < latest && !this.#stopping.signal.aborted && (await queue.haveRuns(after))) {
      await queue.keepWaiting(id);
      await this.#clock.sleep(busyWaitMs, this.#stopping.signal);
    }
  }

  /** Drives a run by the version in force. @returns `undefined` where none is */
  async #drive(id: string, job: RunJob, timing: Timing, lost: AbortController): Promise<RunEnd | undefined> {
    const { data, knots, systems, leaseMs, batchSize } = this.#parts;
    const knot = await knots.inForce(job.knot);
    if (!knot) return undefined;
    // It may have been paused while this one waited.
    if (job.kind === 'run' && (await knotStates(data)).get(job.knot)?.state !== 'running') return undefined;
    const { installation, recorder, systemOf } = await this.#installationOf(knot, id, timing);
    return runKnot(installation, {
      knot: knot.compiled,
      knotVersion: knot.version,
      kind: job.kind,
      startedBy: job.startedBy,
      cause: job.cause,
      ...scopeOf(job),
      overGuards: job.overGuards,
      full: job.full,
      leaseMs,
      batchSize,
      run: id,
      signal: AbortSignal.any([this.#stopping.signal, lost.signal]),
      whileRunning: (lease) => this.#keepAlive(lease, lost),
      beforeEnd: async (result) => {
        if (recorder) await noteDetail(data, id, await recorder.end());
        await systems.recordHealth(healthOf(result, systemOf));
      },
    });
  }

  /** What a run of a knot touches. */
  async #installationOf(knot: LoadedKnot, run: string, { callShare }: Timing) {
    const { data, store, systems } = this.#parts;
    const summaries = memberSummaries(knot.definition, await systems.all());
    const summaryOf = new Map(summaries.map((summary) => [summary.id, summary]));
    const systemOf = new Map(summaries.map(({ id: member, system }) => [member, system]));
    const isKept = (await detailRuns(data, knot.definition.id)) > 0;
    const recorder = isKept ? new ExchangeRecorder(data, run, knot.compiled) : undefined;
    const share = callShare === undefined ? undefined : { knot: knot.definition, percent: callShare };
    const installation: Installation = {
      store,
      clock: this.#clock,
      nextId: () => uuid(),
      connect: (member) => systems.connect(member, this.#clock, recorder?.listenerOf(member.id), share),
      systemName: (member) => summaryOf.get(member)?.systemName ?? member,
      recordPage: (member, key) => recordAddress(summaryOf.get(member)?.recordPage ?? null, key) ?? undefined,
    };
    return { installation, recorder, systemOf };
  }

  /** Takes a part of a run that another worker drives, where there is one. @returns whether there was one */
  async #help(): Promise<boolean> {
    const { store, leaseMs, log } = this.#parts;
    const taken = await store.takeBatch({ now: this.#clock.now(), leaseMs });
    if (!taken) return false;
    this.#helping += 1;
    const { run, knot, batch } = taken.lease;
    const work = this.#doPart(taken)
      .catch(async (error: unknown) => {
        if (error instanceof LeaseLost)
          log.warn({ run, knot, batch }, 'this part of a run is not this worker’s any more');
        else log.error({ err: error, run, knot, batch }, 'a part of a run failed');
        // Whoever drives the run tries it, too, and says what is wrong.
        await this.#clock.sleep(busyWaitMs, this.#stopping.signal);
      })
      .finally(() => {
        this.#helping -= 1;
        this.#active.delete(work);
        this.#wake();
      });
    this.#active.add(work);
    return true;
  }

  async #doPart(taken: TakenBatch): Promise<void> {
    const { knots, store, timings, leaseMs } = this.#parts;
    const { run, knot: id } = taken.lease;
    const knot = await knots.inForce(id);
    if (knot?.version !== taken.knotVersion) {
      await store.giveBack(taken.lease);
      throw new LeaseLost(run);
    }
    const { installation, recorder } = await this.#installationOf(knot, run, (await timings.of(id)).timing);
    const options: RunOptions = {
      knot: knot.compiled,
      knotVersion: knot.version,
      kind: taken.kind,
      startedBy: '',
      leaseMs,
      whileRunning: (lease) => this.#keepAlive(lease),
    };
    await workBatch(installation, options, taken).finally(() => recorder?.end());
  }

  async #profile(id: string, { system, object, first }: ProfileJob): Promise<void> {
    const { objects, queue, log } = this.#parts;
    try {
      await objects.profile(system, object, first, this.#stopping.signal);
    } catch (error) {
      log.error({ err: error, system, object }, 'profile failed');
    } finally {
      await queue.completeProfile(id).catch(() => undefined);
    }
  }

  /**
   * Only a fault of the installation itself comes here; the run is ended so that the next one need not wait for the
   * lease.
   */
  async #endAsFailed(id: string): Promise<void> {
    const words = 'something failed inside; the log says what. The next run takes up where this one stood.';
    await endAsFailed(this.#parts.data, id, words).catch(() => undefined);
  }

  /** @param lost is told when the lease is gone; a part of a run finds that out when it is stored */
  #keepAlive(lease: RunLease, lost?: AbortController): () => void {
    const { store, leaseMs } = this.#parts;
    const timer = setInterval(() => {
      store.renewLease(lease, Date.now(), leaseMs).catch((error: unknown) => {
        if (error instanceof LeaseLost) lost?.abort();
      });
    }, leaseMs / 3);
    return () => clearInterval(timer);
  }
}

/** What a job is to read. So many records of one member are found sooner by asking it for what changed. */
function scopeOf({ members, records }: RunJob): Pick<RunOptions, 'members' | 'records'> {
  const named = Object.entries(records ?? {});
  const asked = named.filter(([, keys]) => keys.length > mostNamedRecords).map(([member]) => member);
  const byKey = named.filter(([, keys]) => keys.length <= mostNamedRecords);
  return {
    members: members === null ? undefined : new Set([...members, ...asked]),
    records: new Map(byKey.map(([member, keys]) => [member, keys.map(recordKey)])),
  };
}

/** How each system of a knot did in a run. */
function healthOf(result: RunResult, systemOf: ReadonlyMap<string, string>): ReadonlyMap<string, SystemRow['trouble']> {
  const health = new Map<string, SystemRow['trouble']>([...systemOf.values()].map((system) => [system, null]));
  for (const trouble of result.troubles)
    if (trouble.code !== 'record unusable') health.set(systemOf.get(trouble.member) as string, pickTrouble(trouble));
  return health;
}

function pickTrouble({ code, words, advice }: NonNullable<SystemRow['trouble']>): SystemRow['trouble'] {
  return { code, words, advice };
}
