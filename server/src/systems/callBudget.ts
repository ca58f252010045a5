import type { DataSource } from 'typeorm';
import type { CallBudgetSettings } from '@anchor-knot/contracts';
import { type CallBudget, type Clock, SystemTrouble } from '@anchor-knot/connectors';

/** A slot is held so long, and held again while the call goes on: a worker that died keeps it no longer. */
const holdSeconds = 10;
const holdAgainMs = 4000;
const slotPollMs = 25;

/** The calls of one system, counted and spaced for all workers together: each call takes its place from one row. */
export class PostgresCallBudget implements CallBudget {
  readonly #data: DataSource;
  readonly #system: { readonly id: string; readonly name: string };
  readonly #settings: CallBudgetSettings;
  readonly #clock: Clock;
  #slotsMade = false;

  constructor(
    data: DataSource,
    system: { readonly id: string; readonly name: string },
    settings: CallBudgetSettings,
    clock: Clock,
  ) {
    this.#data = data;
    this.#system = system;
    this.#settings = settings;
    this.#clock = clock;
  }

  async take(signal?: AbortSignal): Promise<() => void> {
    const { perDay, perSecond, atOnce } = this.#settings;
    const release = atOnce === undefined ? () => undefined : await this.#takeSlot(atOnce, signal);
    try {
      const [row] = (await this.#data.query(
        `insert into call_budget as b (system_id, day, used, free_at, rest_until)
         values ($1, (clock_timestamp() at time zone 'utc')::date, 1, clock_timestamp() + make_interval(secs => $2),
           '-infinity')
         on conflict (system_id) do update set
           day = excluded.day, used = case when b.day = excluded.day then b.used else 0 end + 1,
           free_at = greatest(b.free_at, b.rest_until, clock_timestamp()) + make_interval(secs => $2)
         where $3::int is null or b.day <> excluded.day or b.used < $3
         returning extract(epoch from free_at - make_interval(secs => $2) - clock_timestamp()) * 1000 as wait`,
        [this.#system.id, perSecond === undefined ? 0 : 1 / perSecond, perDay ?? null],
      )) as { wait: string }[];
      if (!row)
        throw new SystemTrouble(
          'too many calls',
          `the ${perDay?.toLocaleString('en') ?? ''} calls a day that ${this.#system.name} may have are used up`,
          'They begin anew at midnight UTC; raise the budget in the description of the system if it bears more.',
        );
      const wait = Number(row.wait);
      if (wait > 0) await this.#clock.sleep(wait, signal);
      signal?.throwIfAborted();
      return release;
    } catch (error) {
      release();
      throw error;
    }
  }

  async rest(milliseconds: number): Promise<void> {
    await this.#data.query(
      `update call_budget set rest_until = greatest(rest_until, clock_timestamp() + make_interval(secs => $2))
        where system_id = $1`,
      [this.#system.id, milliseconds / 1000],
    );
  }

  async #takeSlot(atOnce: number, signal: AbortSignal | undefined): Promise<() => void> {
    const { id } = this.#system;
    if (!this.#slotsMade)
      await this.#data.query(
        'insert into call_slot (system_id, slot) select $1, generate_series(1, $2::int) on conflict do nothing',
        [id, atOnce],
      );
    this.#slotsMade = true;
    for (;;) {
      signal?.throwIfAborted();
      const [[slot]] = (await this.#data.query(
        `update call_slot set held_until = clock_timestamp() + make_interval(secs => $3)
         where (system_id, slot) = (select system_id, slot from call_slot where system_id = $1 and slot <= $2
           and held_until < clock_timestamp() order by slot limit 1 for update skip locked)
         returning slot, held_until::text as until`,
        [id, atOnce, holdSeconds],
      )) as [{ slot: number; until: string }[], number];
      if (slot) return this.#holding(slot.slot, slot.until);
      await this.#clock.sleep(slotPollMs, signal);
    }
  }

  /** @param until what the slot was taken with: another that takes it after us has another. @returns what frees it */
  #holding(slot: number, until: string): () => void {
    let held = until;
    const hold = (text: string): Promise<void> =>
      this.#data
        .query(
          `update call_slot set held_until = ${text} where system_id = $1 and slot = $2 and held_until = $3
            returning held_until::text as until`,
          [this.#system.id, slot, held],
        )
        .then(([[row]]: [{ until: string }[]]) => void (held = row?.until ?? held))
        .catch(() => undefined);
    let last: Promise<void> = Promise.resolve();
    const timer = setInterval(() => {
      last = last.then(() => hold(`clock_timestamp() + interval '${holdSeconds} seconds'`));
    }, holdAgainMs);
    timer.unref();
    return () => {
      clearInterval(timer);
      void last.then(() => hold(`'-infinity'`));
    };
  }
}
