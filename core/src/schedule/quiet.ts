import { DateTime } from 'luxon';
import { type Instant, instantOfWallTime } from '../record/index.js';
import type { Timing } from './timing.js';

const minuteMs = 60_000;
const dayMs = 86_400_000;
/** Quiet hours that follow one another without a break are one time; a week of them never ends. */
const mostInARow = 8;

/**
 * When the quiet hours end that a moment lies in. They begin and end as clocks show it in the timing's zone, as slots
 * do.
 * @returns `undefined` where it lies in none; `Infinity` where they follow one another without end
 */
export function quietUntil({ quiet, zone }: Pick<Timing, 'quiet' | 'zone'>, at: Instant): Instant | undefined {
  if (!quiet) return undefined;
  let end: Instant | undefined;
  for (let row = 0; row <= mostInARow; row += 1) {
    const next = endOf(quiet, zone, end ?? at);
    if (next === undefined) return end;
    end = next;
  }
  return Infinity;
}

/** The end of the one that a moment lies in; those of the day before may last over midnight. */
function endOf({ between, days }: NonNullable<Timing['quiet']>, zone: string, at: Instant): Instant | undefined {
  const [from, until] = between.map(minutesOfDay) as [number, number];
  const today = Date.parse(`${DateTime.fromMillis(at, { zone }).toISODate() ?? ''}T00:00:00Z`);
  for (const day of [today - dayMs, today]) {
    if (days && !days.includes(DateTime.fromMillis(day, { zone: 'utc' }).weekday)) continue;
    const start = instantOfWallTime(day + from * minuteMs, zone);
    const end = instantOfWallTime(day + (until <= from ? dayMs : 0) + until * minuteMs, zone);
    if (start <= at && at < end) return end;
  }
  return undefined;
}

/** @param time of the day, such as `06:30` */
export function minutesOfDay(time: string): number {
  const [hours, minutes] = time.split(':').map(Number);
  return (hours ?? 0) * 60 + (minutes ?? 0);
}
