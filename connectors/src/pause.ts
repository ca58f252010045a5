import type { Clock } from './connector.js';

export const mostAttempts = 6;
const firstDelayMs = 250;
const longestDelayMs = 20_000;
const longestAskedMs = 60_000;

/** How long a system asks to be left alone (Retry-After, RFC 9110 section 10.2.3), in milliseconds. */
export function askedPauseMs(retryAfter: string | undefined, clock: Clock): number | undefined {
  const asked =
    retryAfter === undefined
      ? Number.NaN
      : /^\d+$/.test(retryAfter)
        ? Number(retryAfter) * 1000
        : Date.parse(retryAfter) - clock.now();
  return Number.isNaN(asked) || asked < 0 ? undefined : Math.min(asked, longestAskedMs);
}

/**
 * Waits before another attempt: as long as the system asks, otherwise exponential backoff with jitter.
 * @param attempt the one that failed, from 1
 */
export async function pause(
  { clock, random }: { readonly clock: Clock; readonly random: () => number },
  attempt: number,
  retryAfter: string | undefined,
  signal?: AbortSignal,
): Promise<void> {
  const asked = askedPauseMs(retryAfter, clock);
  const backoff = Math.min(longestDelayMs, firstDelayMs * 2 ** (attempt - 1));
  await clock.sleep(asked === undefined ? backoff * (0.5 + random() / 2) : asked + random() * 100, signal);
}
