import type { MemberId } from '@anchor-knot/core';
import { applyPlan, membersUndone } from './applyPlan.js';
import { nothingDone, type WorkDone } from './batch.js';
import type { TakenBatch } from './lease.js';
import { CallLog } from './callLog.js';
import { closeAll, connectMembers } from './connectMembers.js';
import type { Installation, RunOptions } from './installation.js';
import { pagesToMerge, planAnchors } from './planAnchors.js';
import { resolveIntents } from './resolveIntents.js';
import type { MemberTrouble } from './runResult.js';
import { Tally } from './tally.js';

/** How often a worker asks whether its part of a run is to go on. */
const beatMs = 1000;

/**
 * Does a part of a run, on whatever worker took it, and stores what became of it. What a dead worker had begun of it is
 * looked up first.
 * @param afterPage is called now and then; where it throws, the part is given back
 * @throws {LeaseLost} when another worker took it over, or the run has ended
 */
export async function workBatch(
  installation: Installation,
  options: RunOptions,
  taken: TakenBatch,
  afterPage: () => Promise<void> = async () => undefined,
): Promise<void> {
  const ended = options.whileRunning?.(taken.lease);
  try {
    const done = taken.phase === 'planning' ? doPlanning : doWriting;
    await installation.store.endBatch(
      taken.lease,
      await done(installation, options, taken, new Beat(installation, options, taken, afterPage)),
    );
  } catch (error) {
    // Nobody waits for its lease to run out. Where it is not this worker's any more, nobody has to.
    await installation.store.giveBack(taken.lease).catch(() => undefined);
    throw error;
  } finally {
    ended?.();
  }
}

/** Keeps the lease of a part, and sees whether somebody asked to stop the run. */
class Beat {
  isStopped = false;
  readonly #installation: Installation;
  readonly #options: RunOptions;
  readonly #taken: TakenBatch;
  readonly #afterPage: () => Promise<void>;
  #last: number;

  constructor(installation: Installation, options: RunOptions, taken: TakenBatch, afterPage: () => Promise<void>) {
    this.#installation = installation;
    this.#options = options;
    this.#taken = taken;
    this.#afterPage = afterPage;
    this.#last = installation.clock.now();
  }

  async after(): Promise<void> {
    const { store, clock } = this.#installation;
    if (clock.now() - this.#last >= beatMs) {
      this.#last = clock.now();
      const { stop } = await store.renewLease(this.#taken.lease, clock.now(), this.#options.leaseMs);
      this.isStopped ||= stop;
    }
    await this.#afterPage();
  }
}

async function doPlanning(
  installation: Installation,
  options: RunOptions,
  { lease, context, range }: TakenBatch,
  beat: Beat,
): Promise<WorkDone> {
  const tally = new Tally(options.knot, () => installation.clock.now());
  const pages = pagesToMerge(installation.store, lease, range);
  const planned = await planAnchors(installation, options, lease, context, pages, tally, () => beat.after());
  return { ...nothingDone, ...planned, done: tally.done, tally: tally.tallies };
}

async function doWriting(
  installation: Installation,
  options: RunOptions,
  { lease, context, range, isTakenOver }: TakenBatch,
  beat: Beat,
): Promise<WorkDone> {
  const tally = new Tally(options.knot, () => installation.clock.now());
  const calls = new CallLog(installation.clock);
  const members = options.knot.members.filter(({ id }) => !context.troubled.has(id));
  const { connectors, troubles } = await connectMembers(installation, members, calls);
  try {
    const begun = isTakenOver
      ? await resolveIntents(installation, options, lease, connectors, { range, stopped: () => beat.isStopped })
      : { troubles: [], ends: [] };
    const before = [...troubles, ...begun.troubles];
    const applied = await applyPlan({
      installation,
      options,
      lease,
      connectors,
      context,
      troubles: new Map<MemberId, MemberTrouble>(before.map((trouble) => [trouble.member, trouble])),
      tally,
      range,
      afterBatch: () => beat.after(),
      stopped: () => beat.isStopped,
    });
    return {
      ...nothingDone,
      ...applied,
      undone: [...new Set([...applied.undone, ...membersUndone(begun.ends)])],
      done: tally.done,
      tally: tally.tallies,
      calls: calls.snapshot(),
    };
  } finally {
    await closeAll(connectors);
  }
}
