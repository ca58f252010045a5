import type { Steps } from '@anchor-knot/core';

/** How long this thread may be kept from everything else, in milliseconds. */
const longestStep = 25;

/**
 * Does work piece by piece, and looks after everything else in between.
 * @throws when the signal is aborted
 */
export async function inSteps<Result>(steps: Steps<Result>, signal?: AbortSignal): Promise<Result> {
  for (let since = performance.now(); ;) {
    const step = steps.next();
    if (step.done === true) return step.value;
    if (performance.now() - since < longestStep) continue;
    await new Promise((resolve) => setImmediate(resolve));
    signal?.throwIfAborted();
    since = performance.now();
  }
}
