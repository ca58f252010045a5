import type { Clock } from '@anchor-knot/connectors';
import { mostNamedRecords } from '@anchor-knot/contracts';
import { recordKey, type Timing } from '@anchor-knot/core';
import { LeaseLost } from '../orchestration/lease.js';
import type { RunOptions } from '../orchestration/installation.js';
import type { RunResult } from '../orchestration/runResult.js';
import { type RunEnd, runKnot } from '../orchestration/runKnot.js';
import { jobChannel } from '../persistence/channels.js';
import { listen, type Listener } from '../persistence/listener.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { dropOldNotices } from '../persistence/tables/notices.js';
import { dropOldExchanges, noteDetail } from '../persistence/tables/exchanges.js';
import { dropReadHours } from '../persistence/tables/readHours.js';
import { dropRunDays } from '../persistence/tables/runDays.js';
import { dropThingChanges } from '../persistence/tables/thingChanges.js';
import { dropQuietRuns } from '../persistence/tables/timings.js';
import { knotStates } from '../persistence/tables/versions.js';
import { endAsFailed, hasEnded } from '../persistence/tables/runLists.js';
import type { ProfileJob, RunJob } from './jobs.js';
import { Helper } from './helper.js';
import { keepAlive } from './keepAlive.js';
import { runInstallation } from './runInstallation.js';
import { systemClock } from './systemClock.js';
import type { WorkerParts } from './workerParts.js';

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
/** The certificates of systems are looked at so often. */
const certificateHours = 12;
/** Systems that say themselves what fields they have are asked so often whether these are the same. */
const unaskedMinutes = 60;

/** Takes runs from the queue and drives them. Any number of workers may do so, on any machine. */
export class Worker {
  readonly #parts: WorkerParts;
  readonly #clock: Clock = systemClock;
  readonly #stopping = new AbortController();
  readonly #active = new Set<Promise<void>>();
  /** Runs that this worker drives. */
  readonly #driven = new Set<string>();
  readonly #helper: Helper;
  #listener: Listener | undefined;
  #endIdling: () => void = () => undefined;
  /** Something was told since the queue was looked at last: nobody waits then. */
  #isTold = false;
  /** One profile at a time: it reads a whole object, and runs come first. */
  #profiling = false;
  #checking = false;
  #checkedAt = 0;
  #startedDueAt = 0;
  #toldAt = 0;
  #telling = false;

  constructor(parts: WorkerParts) {
    this.#parts = parts;
    this.#helper = new Helper(parts, this.#clock, this.#stopping.signal);
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
        this.#isTold = false;
        const job = await this.#parts.queue.fetch();
        if (job) {
          this.#driven.add(job.id);
          this.#follow(this.#run(job.id, job.data).finally(() => this.#driven.delete(job.id)));
          continue;
        }
        const part = await this.#helper.takePart([...this.#driven]);
        if (part) {
          this.#follow(part.done);
          continue;
        }
        const wanted = this.#profiling ? undefined : await this.#parts.queue.fetchProfile();
        if (wanted) {
          this.#profiling = true;
          this.#follow(this.#profile(wanted.id, wanted.data).finally(() => (this.#profiling = false)));
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

  /** What was asked for while something was done waits for nothing else when that has ended. */
  #follow(done: Promise<unknown>): void {
    const work: Promise<void> = done
      .then(() => undefined)
      .finally(() => {
        this.#active.delete(work);
        this.#wake();
      });
    this.#active.add(work);
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
      () => systems.lookAtCertificates(certificateHours),
      () => inbox.checkAll(),
      () => objects.lookForChanges(unaskedMinutes),
      () => dropQuietRuns(data, quietDays),
      () => dropThingChanges(data, quietDays),
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

  #wake(): void {
    this.#isTold = true;
    this.#endIdling();
  }

  async #idle(): Promise<void> {
    if (this.#isTold || this.#stopping.signal.aborted) return;
    await new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, Math.min(idlePollMs, this.#parts.leaseMs));
      this.#endIdling = () => {
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
      // A run that was offered again may have been given up meanwhile: what it was to do is asked for anew.
      if (await hasEnded(this.#parts.data, id)) {
        sentAs = await queue.send(job);
        return;
      }
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
      if (job.kind === 'run') await this.#release(job.knot, id);
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

  /** What waited for things of a knot goes on. */
  async #release(knot: string, run: string): Promise<void> {
    const { scheduler, log } = this.#parts;
    // The run itself has ended well; what waits is looked at again after the next one.
    await scheduler.startReleased(knot, this.#clock.now(), run).catch((error: unknown) => {
      log.error({ err: error, knot }, 'what waits for things of this knot cannot be looked up');
    });
  }

  /**
   * A run that nobody asked for waits for those of knots that come before: those that its timing names, and those that
   * it refers to. So does one that was asked for together with them. Not for ever, where they always run.
   */
  async #waitForOthers(id: string, { knot, kind, cause, after: asked = [] }: RunJob, timing: Timing): Promise<void> {
    if (kind !== 'run' && asked.length === 0) return;
    const { queue } = this.#parts;
    const own = cause === 'person' ? [] : [...(timing.after ?? []), ...(await this.#referredBefore(knot))];
    const after = [...new Set([...asked, ...own])];
    if (after.length === 0) return;
    const latest = Date.now() + longestOrderMs;
    while (Date.now() < latest && !this.#stopping.signal.aborted && (await queue.haveRuns(after))) {
      await queue.keepWaiting(id);
      await this.#clock.sleep(busyWaitMs, this.#stopping.signal);
    }
  }

  /** What a knot refers to comes before it, but for what somebody has said to come after it. */
  async #referredBefore(knot: string): Promise<readonly string[]> {
    const { knots, timings } = this.#parts;
    const before: string[] = [];
    for (const other of await knots.comesAfter(knot))
      if (!(await timings.of(other)).timing.after?.includes(knot)) before.push(other);
    return before;
  }

  /** Drives a run by the version in force. @returns `undefined` where none is */
  async #drive(id: string, job: RunJob, timing: Timing, lost: AbortController): Promise<RunEnd | undefined> {
    const { data, knots, systems, leaseMs, batchSize } = this.#parts;
    const knot = await knots.inForce(job.knot);
    if (!knot) return undefined;
    // It may have been paused while this one waited.
    if (job.kind === 'run' && (await knotStates(data)).get(job.knot)?.state !== 'running') return undefined;
    const { installation, recorder, systemOf } = await runInstallation(this.#parts, this.#clock, knot, id, timing);
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
      whileRunning: (lease) => keepAlive(this.#parts, lease, () => lost.abort()),
      beforeEnd: async (result) => {
        if (recorder) await noteDetail(data, id, await recorder.end());
        await systems.recordHealth(healthOf(result, systemOf));
      },
    });
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
