import { Cron } from 'croner';
import { DateTime } from 'luxon';
import { type Instant, instantOfWallTime } from '../record/index.js';
import { minutesOfDay, quietUntil } from './quiet.js';
import type { CronExpression, Days, OnDays, Repeated, Schedule, Timing } from './timing.js';

const unitMs = { minutes: 60_000, hours: 3_600_000 } as const;
const dayMs = 86_400_000;
/** Days of the month come at the latest once in four years: the 29th of February. */
const farthestDays = 4 * 366 + 1;
/** Every count of days is taken from this one, where a timing has no first day: a Monday. */
const countedFrom = '2024-01-01';

export type Bounds = Pick<Timing, 'zone' | 'firstDay' | 'lastDay' | 'quiet'>;

/**
 * The moments at which a schedule is due, in order, each of them later than the one given; without end, unless there is
 * a last day. What a clock shows is taken as RFC 5545, section 3.3.5, says: a time that is skipped when clocks are put
 * forward is as much later as was skipped, and one that comes twice is the first of the two. Minutes and hours that are
 * merely apart know nothing of clocks. In quiet hours none is due.
 * @throws {RangeError} when there is no such zone
 */
export function* slotsAfter(schedule: Schedule, bounds: Bounds, after: Instant): Generator<Instant> {
  const first = bounds.firstDay === undefined ? -Infinity : startOf(bounds.firstDay, bounds.zone);
  const end = bounds.lastDay === undefined ? Infinity : startOf(dayAfter(bounds.lastDay), bounds.zone);
  let from = Math.max(after, first - 1);
  for (let jumps = 0; jumps <= farthestDays; jumps += 1) {
    let quietEnd: Instant | undefined;
    for (const slot of slotsOf(schedule, bounds, from)) {
      if (slot >= end) return;
      quietEnd = quietUntil(bounds, slot);
      if (quietEnd !== undefined) break;
      jumps = 0;
      yield slot;
    }
    if (quietEnd === undefined || quietEnd === Infinity) return;
    from = quietEnd - 1;
  }
}

function slotsOf(schedule: Schedule, bounds: Bounds, after: Instant): Iterable<Instant> {
  switch (schedule.kind) {
    case 'every':
      return slotsApart(schedule, bounds, after);
    case 'days':
      return slotsOnDays(schedule, bounds, after);
    case 'cron':
      return slotsOfCron(schedule, bounds.zone, after);
    default:
      return schedule satisfies never;
  }
}

function* slotsApart({ every, unit, between }: Repeated, bounds: Bounds, after: Instant): Generator<Instant> {
  const step = every * unitMs[unit];
  const base = startOf(bounds.firstDay ?? countedFrom, bounds.zone);
  const [from, until] = (between ?? []).map(minutesOfDay);
  const isWithin = (slot: Instant): boolean => {
    if (from === undefined || until === undefined) return true;
    const { hour, minute } = DateTime.fromMillis(slot, { zone: bounds.zone });
    const shown = hour * 60 + minute;
    return from <= until ? shown >= from && shown <= until : shown >= from || shown <= until;
  };
  let last = Math.max(after, base);
  // A window that no slot ever falls into, such as an hour of the day that is never reached in steps of a day.
  for (
    let slot = base + (Math.floor((after - base) / step) + 1) * step;
    slot - last < farthestDays * dayMs;
    slot += step
  )
    if (isWithin(slot)) {
      last = slot;
      yield slot;
    }
}

function* slotsOnDays({ on, at }: OnDays, bounds: Bounds, after: Instant): Generator<Instant> {
  const times = [...new Set(at.map(minutesOfDay))].sort((one, other) => one - other);
  const base = wallDay(bounds.firstDay ?? countedFrom);
  let empty = 0;
  // A day before: what was skipped on it may come after midnight.
  for (let day = wallDayOf(after, bounds.zone) - dayMs; empty < farthestDays; day += dayMs) {
    empty += 1;
    if (!isOn(on, day, base)) continue;
    const slots = times.map((minutes) => instantOfWallTime(day + minutes * unitMs.minutes, bounds.zone));
    for (const slot of new Set(slots.sort((one, other) => one - other)))
      if (slot > after) {
        empty = 0;
        yield slot;
      }
  }
}

function isOn(on: Days, day: number, base: number): boolean {
  const date = DateTime.fromMillis(day, { zone: 'utc' });
  switch (on.kind) {
    case 'every':
      return Math.round((day - base) / dayMs) % on.days === 0;
    case 'of the week':
      return on.days.includes(date.weekday);
    case 'of the month':
      return on.days.includes(date.day) || (on.days.includes('last') && date.day === date.daysInMonth);
    default:
      return on satisfies never;
  }
}

function* slotsOfCron({ expression }: CronExpression, zone: string, after: Instant): Generator<Instant> {
  const cron = new Cron(expression, { timezone: zone });
  for (let slot = cron.nextRun(new Date(after)); slot !== null; slot = cron.nextRun(slot)) yield slot.getTime();
}

/** Midnight of a day as a clock shows it, as if it were UTC. */
function wallDay(day: string): number {
  return Date.parse(`${day}T00:00:00Z`);
}

function wallDayOf(instant: Instant, zone: string): number {
  return wallDay(DateTime.fromMillis(instant, { zone }).toISODate() ?? '');
}

function startOf(day: string, zone: string): Instant {
  return instantOfWallTime(wallDay(day), zone);
}

function dayAfter(day: string): string {
  return new Date(wallDay(day) + dayMs).toISOString().slice(0, 10);
}
