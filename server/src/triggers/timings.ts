import type { DataSource } from 'typeorm';
import {
  byHandOnly,
  type Instant,
  type Knot,
  scheduleFor,
  slotsAfter,
  type SlotPurpose,
  type Timing,
} from '@anchor-knot/core';
import type { SqlConnection } from '../persistence/sql.js';
import { findTiming, saveTiming, setDueSlots } from '../persistence/tables/timings.js';

/** What a slot is for: a schedule of the knot, or asking one of its members. */
export type DuePurpose = SlotPurpose | { readonly ask: string };

const askPrefix = 'ask:';

export function purposeText(purpose: DuePurpose): string {
  return typeof purpose === 'string' ? purpose : `${askPrefix}${purpose.ask}`;
}

export function purposeOf(text: string): DuePurpose {
  return text.startsWith(askPrefix) ? { ask: text.slice(askPrefix.length) } : (text as SlotPurpose);
}

/** How often a member is asked, in milliseconds; `undefined` where it is not. */
export function askingMs(timing: Timing, member: string): number | undefined {
  const trigger = timing.triggers[member];
  if (!trigger) return undefined;
  return (trigger.kind === 'events' ? trigger.otherwiseSeconds : trigger.seconds) * 1000;
}

/** Whether nothing starts the knot but people. */
export function isByHandOnly({ regular, complete, triggers }: Timing): boolean {
  return regular === undefined && complete === undefined && Object.keys(triggers).length === 0;
}

/** When each knot runs by itself. It is no part of a definition: it is set while the knot runs, and holds at once. */
export class Timings {
  readonly #data: DataSource;

  constructor(data: DataSource) {
    this.#data = data;
  }

  /** What was set; a knot of which nothing was set runs by hand only. */
  async of(
    knot: string,
    db: SqlConnection = this.#data,
  ): Promise<{
    readonly timing: Timing;
    readonly revision: number;
    readonly changedBy: string | null;
    readonly changedAt: Date | null;
  }> {
    const row = await findTiming(db, knot);
    return {
      timing: row?.timing ?? byHandOnly,
      revision: row?.revision ?? 0,
      changedBy: row?.changed_by ?? null,
      changedAt: row?.changed_at ?? null,
    };
  }

  /**
   * Sets it, and what is due from now on; what was due before and not done is not due any more.
   * @param seen the revision that the change was made on
   * @returns the new revision; `undefined` when somebody changed it meanwhile
   */
  async keep(knot: Knot, seen: number, timing: Timing, person: string, now: Instant): Promise<number | undefined> {
    return this.#data.transaction(async (db) => {
      const revision = await saveTiming(db, knot.id, seen, timing, person);
      if (revision !== undefined) await setDueSlots(db, knot.id, [...firstDue(knot, timing, now)]);
      return revision;
    });
  }
}

function* firstDue(knot: Knot, timing: Timing, now: Instant): Generator<{ purpose: string; at: Date }> {
  for (const purpose of ['changes', 'everything'] as const) {
    const schedule = scheduleFor(timing, purpose);
    const slot = schedule && slotsAfter(schedule, timing, now).next();
    if (slot?.done === false) yield { purpose, at: new Date(slot.value) };
  }
  for (const { id } of knot.members) {
    const every = askingMs(timing, id);
    if (every !== undefined) yield { purpose: purposeText({ ask: id }), at: new Date(now + every) };
  }
}
