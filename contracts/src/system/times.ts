import { z } from 'zod';

function isZone(zone: string): boolean {
  try {
    new Intl.DateTimeFormat('en', { timeZone: zone });
    return true;
  } catch {
    return false;
  }
}

/** How the times of a system are to be read. */
export const systemTimesSchema = z.strictObject({
  /** Of times that name none: a zone of the IANA time zone database; UTC where nothing is said. */
  zone: z.string().max(60).refine(isZone, 'is no time zone').optional(),
  /** By how much its times run ahead of the true time, where that is known better than its answers tell. */
  aheadMs: z.int().min(-86_400_000).max(86_400_000).optional(),
});
export type SystemTimes = z.output<typeof systemTimesSchema>;
