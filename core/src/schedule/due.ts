import type { Instant } from '../record/index.js';
import { slotsAfter } from './slots.js';
import type { Schedule, Timing } from './timing.js';

/** What a slot is for: what changed in all members, or everything there is. */
export type SlotPurpose = 'changes' | 'everything';

export interface Slot {
  readonly at: Instant;
  readonly purpose: SlotPurpose;
}

/** What became of a schedule between two moments. */
export interface Passed {
  /** The latest slot that is still to be done; `undefined` where none was. */
  readonly due: Instant | undefined;
  /** How many slots nobody did at their time, and the first of them. */
  readonly missed: number;
  readonly missedSince: Instant | undefined;
  /** The first slot after the second moment; `undefined` where there is none any more. */
  readonly next: Instant | undefined;
}

export function scheduleFor(timing: Timing, purpose: SlotPurpose): Schedule | undefined {
  return purpose === 'everything' ? timing.complete : timing.regular;
}

/** The next slots of a timing, whatever they are for, in order. @param most at least 1 */
export function nextSlots(timing: Timing, after: Instant, most: number): readonly Slot[] {
  const purposes: readonly SlotPurpose[] = ['changes', 'everything'];
  return purposes
    .flatMap((purpose) => {
      const schedule = scheduleFor(timing, purpose);
      return schedule ? take(slotsAfter(schedule, timing, after), most).map((at): Slot => ({ at, purpose })) : [];
    })
    .sort((one, other) => one.at - other.at)
    .slice(0, most);
}

/**
 * What is to be done of a schedule now: however many slots have passed, one run makes up for them. Those are missed of
 * which a time as long as the grace has passed.
 * @param slot the earliest slot that was not looked at yet
 * @param now not before it
 * @param graceMs milliseconds
 */
export function passedSlots(schedule: Schedule, timing: Timing, slot: Instant, now: Instant, graceMs: number): Passed {
  let due: Instant | undefined;
  let missed = 0;
  let missedSince: Instant | undefined;
  for (const at of slotsAfter(schedule, timing, slot - 1)) {
    if (at > now) return { due, missed, missedSince, next: at };
    due = at;
    if (now - at <= graceMs) continue;
    missed += 1;
    missedSince ??= at;
  }
  return { due, missed, missedSince, next: undefined };
}

function take<Item>(items: Iterable<Item>, most: number): Item[] {
  const taken: Item[] = [];
  for (const item of items) {
    taken.push(item);
    if (taken.length >= most) break;
  }
  return taken;
}
