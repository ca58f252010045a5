import type { DataSource } from 'typeorm';
import type { CallBudgetSettings } from '@anchor-knot/contracts';
import {
  callsToday,
  type HeldSlot,
  holdSlot,
  makeSlots,
  restCalls,
  takeCall,
  takeSlot,
} from '../persistence/tables/callBudget.js';
import { type CallBudget, type Clock, SystemTrouble } from '@anchor-knot/connectors';

/** A slot is held so long, and held again while the call goes on: a worker that died keeps it no longer. */
const holdSeconds = 10;
const holdAgainMs = 4000;
const slotPollMs = 25;
const dayMs = 86_400_000;

/** When the calls of a day (UTC) are used up at the rate of this day; `undefined` where they will do for the day. */
export function emptyAt(used: number, perDay: number, now: Date): number | undefined {
  const dayBegan = Date.UTC(now.getUTCFullYear(), now.getUTCMonth(), now.getUTCDate());
  const empty = dayBegan + ((now.getTime() - dayBegan) * perDay) / Math.max(1, used);
  return empty < dayBegan + dayMs ? empty : undefined;
}

/** A knot that may use only so much of the calls of a day, or comes after the others. */
export interface KnotShare {
  readonly knot: { readonly id: string; readonly name: string };
  readonly percent: number | undefined;
  /** The last calls of the day are for the others. */
  readonly isLast: boolean;
}

/** So much of the calls of a day is for knots that do not come last. */
const keptForOthers = 0.2;

/** The calls of one system, counted and spaced for all workers together: each call takes its place from one row. */
export class PostgresCallBudget implements CallBudget {
  readonly #data: DataSource;
  readonly #system: { readonly id: string; readonly name: string };
  readonly #settings: CallBudgetSettings;
  readonly #clock: Clock;
  readonly #share: KnotShare | undefined;
  #slotsMade = false;

  constructor(
    data: DataSource,
    system: { readonly id: string; readonly name: string },
    settings: CallBudgetSettings,
    clock: Clock,
    share?: KnotShare,
  ) {
    this.#data = data;
    this.#system = system;
    this.#settings = settings;
    this.#clock = clock;
    this.#share = share;
  }

  async take(signal?: AbortSignal): Promise<() => void> {
    const { perSecond, atOnce } = this.#settings;
    const perDay = this.#mostPerDay();
    const release = atOnce === undefined ? () => undefined : await this.#takeSlot(atOnce, signal);
    try {
      const spacing = perSecond === undefined ? 0 : 1 / perSecond;
      const share = this.#shareOf(this.#settings.perDay);
      const wait = await takeCall(this.#data, this.#system.id, spacing, perDay, share);
      if (wait === undefined) throw await this.#usedUp(this.#settings.perDay ?? 0);
      if (wait > 0) await this.#clock.sleep(wait, signal);
      signal?.throwIfAborted();
      return release;
    } catch (error) {
      release();
      throw error;
    }
  }

  /** How many calls all together may have had today for one more. */
  #mostPerDay(): number | undefined {
    const { perDay } = this.#settings;
    return perDay !== undefined && this.#share?.isLast ? Math.floor(perDay * (1 - keptForOthers)) : perDay;
  }

  #shareOf(perDay: number | undefined) {
    if (this.#share?.percent === undefined || perDay === undefined) return undefined;
    return { knot: this.#share.knot.id, perDay: Math.ceil((perDay * this.#share.percent) / 100) };
  }

  async #usedUp(perDay: number): Promise<SystemTrouble> {
    const calls = `${perDay.toLocaleString('en')} calls a day that ${this.#system.name} may have`;
    const { today } = await callsToday(this.#data, this.#system.id);
    if (this.#share?.isLast && today < perDay && today >= (this.#mostPerDay() ?? perDay))
      return new SystemTrouble(
        'too many calls',
        `${this.#share.knot.name} leaves the last fifth of the ${calls} to other knots`,
        'They begin anew at midnight UTC; have it begin as the others do, in its timing, if it shall use them all.',
      );
    if (this.#share?.percent !== undefined && today < perDay)
      return new SystemTrouble(
        'too many calls',
        `${this.#share.knot.name} has used up its ${this.#share.percent} % of the ${calls}`,
        'They begin anew at midnight UTC; give it a larger share in its timing if others need fewer.',
      );
    return new SystemTrouble(
      'too many calls',
      `the ${calls} are used up`,
      'They begin anew at midnight UTC; raise the budget in the description of the system if it bears more.',
    );
  }

  async rest(milliseconds: number): Promise<void> {
    await restCalls(this.#data, this.#system.id, milliseconds / 1000);
  }

  async #takeSlot(atOnce: number, signal: AbortSignal | undefined): Promise<() => void> {
    const { id } = this.#system;
    if (!this.#slotsMade) await makeSlots(this.#data, id, atOnce);
    this.#slotsMade = true;
    for (;;) {
      signal?.throwIfAborted();
      const slot = await takeSlot(this.#data, id, atOnce, holdSeconds);
      if (slot) return this.#holding(slot);
      await this.#clock.sleep(slotPollMs, signal);
    }
  }

  /** Holds a slot until the call has ended. @returns what frees it */
  #holding(slot: HeldSlot): () => void {
    let held = slot;
    const hold = async (seconds: number | 'no longer'): Promise<void> => {
      held = (await holdSlot(this.#data, this.#system.id, held, seconds).catch(() => undefined)) ?? held;
    };
    let last: Promise<void> = Promise.resolve();
    const timer = setInterval(() => {
      last = last.then(() => hold(holdSeconds));
    }, holdAgainMs);
    timer.unref();
    return () => {
      clearInterval(timer);
      void last.then(() => hold('no longer'));
    };
  }
}
