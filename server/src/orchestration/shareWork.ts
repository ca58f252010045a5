import type { WorkDone } from './batch.js';
import type { Installation, RunOptions } from './installation.js';
import { LeaseLost, type RunLease } from './lease.js';
import { together } from './together.js';
import { workBatch } from './workBatch.js';

/** While one part is stored another is worked out: so many at once are enough to be never idle. */
export const batchesAtOnce = 2;
/** How long it is waited for parts that other workers do, before it is looked again. */
const waitMs = 100;

/**
 * Does a phase of a run that was opened in parts, of which any worker takes some, this one too.
 * @param tell is told after each part how many anchors are done; where it throws, the run ends
 * @returns what became of each part
 */
export async function shareWork(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  tell: (done: number) => Promise<void>,
): Promise<readonly WorkDone[]> {
  const { store, clock } = installation;
  let done = 0;
  const work = async (failed: () => boolean): Promise<void> => {
    while (!failed()) {
      const taken = await store.takeBatch({ run: lease.run, now: clock.now(), leaseMs: options.leaseMs });
      if (taken)
        await workBatch(installation, options, taken, () => tell(done)).catch((error: unknown) => {
          // This worker was slow, and another took the part over; where the run is lost, it is told next.
          if (!(error instanceof LeaseLost)) throw error;
        });
      const parts = await store.batches(lease);
      if (parts.length === 0) throw new Error('the parts of this run are gone; the database has lost what was staged');
      const ended = parts.filter((part) => part !== undefined);
      done = ended.reduce((sum, part) => sum + part.done, 0);
      await tell(done);
      if (ended.length === parts.length) return;
      if (!taken) await clock.sleep(waitMs);
    }
  };
  await together(Array.from({ length: batchesAtOnce }), (_, failed) => work(failed));
  return (await store.batches(lease)).filter((part) => part !== undefined);
}
