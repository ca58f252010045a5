import type { Clock } from '@anchor-knot/connectors';
import { batchesAtOnce } from '../orchestration/shareWork.js';
import { LeaseLost, type RunLease, type TakenBatch } from '../orchestration/lease.js';
import { workBatch } from '../orchestration/workBatch.js';
import { keepAlive } from './keepAlive.js';
import { runInstallation } from './runInstallation.js';
import type { WorkerParts } from './workerParts.js';

/** How long it is waited after a part that failed. */
const pauseMs = 500;

/** Does parts of runs that other workers drive. */
export class Helper {
  readonly #parts: WorkerParts;
  readonly #clock: Clock;
  readonly #stopping: AbortSignal;
  #underWay = 0;

  constructor(parts: WorkerParts, clock: Clock, stopping: AbortSignal) {
    this.#parts = parts;
    this.#clock = clock;
    this.#stopping = stopping;
  }

  /**
   * @param driven runs that this worker drives itself
   * @returns a part that is being done from now on; `undefined` where there is none, or enough are under way
   */
  async takePart(driven: readonly string[]): Promise<{ readonly done: Promise<void> } | undefined> {
    const { store, leaseMs } = this.#parts;
    if (this.#underWay >= batchesAtOnce) return undefined;
    const taken = await store.takeBatch({ except: driven, now: this.#clock.now(), leaseMs });
    if (!taken) return undefined;
    this.#underWay += 1;
    return { done: this.#try(taken).finally(() => (this.#underWay -= 1)) };
  }

  async #try(taken: TakenBatch): Promise<void> {
    const { store, log } = this.#parts;
    const { run, knot, batch } = taken.lease;
    try {
      await this.#do(taken);
    } catch (error) {
      if (error instanceof LeaseLost) log.warn({ run, knot, batch }, 'another worker has this part of a run');
      else log.error({ err: error, run, knot, batch }, 'a part of a run failed');
      // Whoever drives the run tries it, too, and says what is wrong.
      await store.giveBack(taken.lease).catch(() => undefined);
      await this.#clock.sleep(pauseMs, this.#stopping);
    }
  }

  async #do(taken: TakenBatch): Promise<void> {
    const { knots, timings, leaseMs } = this.#parts;
    const { run, knot: id } = taken.lease;
    const knot = await knots.inForce(id);
    // No other version comes into force while a run goes: this run has ended.
    if (knot?.version !== taken.knotVersion) throw new LeaseLost(run);
    const { timing } = await timings.of(id);
    const { installation, recorder } = await runInstallation(this.#parts, this.#clock, knot, run, timing);
    const options = {
      knot: knot.compiled,
      knotVersion: knot.version,
      kind: taken.kind,
      startedBy: '',
      leaseMs,
      whileRunning: (lease: RunLease) => keepAlive(this.#parts, lease),
    };
    await workBatch(installation, options, taken).finally(() => recorder?.end());
  }
}
