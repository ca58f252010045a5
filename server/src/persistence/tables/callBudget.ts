import type { SqlConnection } from '../sql.js';

/** The calls of systems, counted and spaced for all workers together. */

/** What a knot may use of the calls of a day. */
export interface CallShare {
  readonly knot: string;
  readonly perDay: number;
}

/**
 * Takes the next place for a call of a system.
 * @param spacing seconds from call to call
 * @param perDay most calls of a day in UTC
 * @param share of the knot that the call is for, where it has one
 * @returns milliseconds until the call may be made; `undefined` where the day's calls, or the share's, are used up
 */
export async function takeCall(
  db: SqlConnection,
  system: string,
  spacing: number,
  perDay: number | undefined,
  share: CallShare | undefined,
): Promise<number | undefined> {
  const [row] = (await db.query(
    `with shared as (
       insert into call_share as s (system_id, knot_id, day, used)
         select $1, $4, (clock_timestamp() at time zone 'utc')::date, 1 where $4::text is not null
       on conflict (system_id, knot_id) do update set day = excluded.day,
         used = case when s.day = excluded.day then s.used else 0 end + 1
       where s.day <> excluded.day or s.used < $5::int returning 1)
     insert into call_budget as b (system_id, day, used, free_at, rest_until)
     select $1, (clock_timestamp() at time zone 'utc')::date, 1, clock_timestamp() + make_interval(secs => $2),
       '-infinity' where $4::text is null or exists (select 1 from shared)
     on conflict (system_id) do update set
       day = excluded.day, used = case when b.day = excluded.day then b.used else 0 end + 1,
       free_at = greatest(b.free_at, b.rest_until, clock_timestamp()) + make_interval(secs => $2)
     where $3::int is null or b.day <> excluded.day or b.used < $3
     returning extract(epoch from free_at - make_interval(secs => $2) - clock_timestamp()) * 1000 as wait`,
    [system, spacing, perDay ?? null, share?.knot ?? null, share?.perDay ?? null],
  )) as { wait: string }[];
  return row && Number(row.wait);
}

/** No call is made for so long. */
export async function restCalls(db: SqlConnection, system: string, seconds: number): Promise<void> {
  await db.query(
    `update call_budget set rest_until = greatest(rest_until, clock_timestamp() + make_interval(secs => $2))
     where system_id = $1`,
    [system, seconds],
  );
}

/** How many calls a system had today (UTC), and until when it rests. */
export async function callsToday(
  db: SqlConnection,
  system: string,
): Promise<{ readonly today: number; readonly rest: Date | null }> {
  const [row] = (await db.query(
    `select case when day = (now() at time zone 'utc')::date then used else 0 end as today,
       case when rest_until > now() then rest_until end as rest from call_budget where system_id = $1`,
    [system],
  )) as { today: number; rest: Date | null }[];
  return row ?? { today: 0, rest: null };
}

/** Makes the slots of calls that may be under way at once. */
export async function makeSlots(db: SqlConnection, system: string, count: number): Promise<void> {
  await db.query(
    'insert into call_slot (system_id, slot) select $1, generate_series(1, $2::int) on conflict do nothing',
    [system, count],
  );
}

/** A slot that is held; another that takes it afterwards has another end. */
export interface HeldSlot {
  readonly slot: number;
  readonly until: string;
}

/** Takes a free slot for so long. */
export async function takeSlot(
  db: SqlConnection,
  system: string,
  count: number,
  seconds: number,
): Promise<HeldSlot | undefined> {
  const [[slot]] = (await db.query(
    `update call_slot set held_until = clock_timestamp() + make_interval(secs => $3)
     where (system_id, slot) = (select system_id, slot from call_slot where system_id = $1 and slot <= $2
       and held_until < clock_timestamp() order by slot limit 1 for update skip locked)
     returning slot, held_until::text as until`,
    [system, count, seconds],
  )) as [HeldSlot[], number];
  return slot;
}

/**
 * Holds a slot for so long from now, or frees it at once.
 * @returns it as it is held now; `undefined` where it was lost
 */
export async function holdSlot(
  db: SqlConnection,
  system: string,
  { slot, until }: HeldSlot,
  seconds: number | 'no longer',
): Promise<HeldSlot | undefined> {
  const [[held]] = (await db.query(
    `update call_slot set held_until =
       case when $4::float8 is null then '-infinity' else clock_timestamp() + make_interval(secs => $4) end
     where system_id = $1 and slot = $2 and held_until = $3 returning slot, held_until::text as until`,
    [system, slot, until, seconds === 'no longer' ? null : seconds],
  )) as [HeldSlot[], number];
  return held;
}

export interface UsedAllowance {
  readonly system: string;
  readonly name: string;
  readonly used: number;
  readonly perDay: number;
}

/** How many calls of the day (UTC) systems have used, of those that have only so many. */
export async function usedAllowances(db: SqlConnection): Promise<readonly UsedAllowance[]> {
  return (await db.query(
    `select y.id as system, y.name, b.used::int as used, (y.description -> 'budget' ->> 'perDay')::int as "perDay"
     from call_budget b join system y on y.id = b.system_id
     where b.day = (now() at time zone 'utc')::date and (y.description -> 'budget' ->> 'perDay') is not null`,
  )) as UsedAllowance[];
}
