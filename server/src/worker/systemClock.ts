import { setTimeout as wait } from 'node:timers/promises';
import type { Clock } from '@anchor-knot/connectors';

/** The machine's own clock. */
export const systemClock: Clock = {
  now: () => Date.now(),
  sleep: async (milliseconds, signal) => {
    await wait(milliseconds, undefined, signal ? { signal } : {}).catch(() => undefined);
  },
};
