import {
  type AnchorId,
  anchorId,
  type Instant,
  keyOf,
  lastNumber,
  type Series,
  seriesText,
  yearOf,
} from '@anchor-knot/core';
import type { RunLease } from '../../orchestration/lease.js';
import type { WantedNumbers } from '../../orchestration/stored.js';
import type { SqlConnection } from '../sql.js';
import { anchorsWithKeys } from './anchors.js';

export async function findSeries(
  db: SqlConnection,
  id: string,
): Promise<{ readonly series: Series; readonly revision: number } | undefined> {
  const [row] = (await db.query('select description, revision from series where id = $1', [id])) as {
    description: Series;
    revision: number;
  }[];
  return row && { series: row.description, revision: row.revision };
}

/**
 * What the next numbers would be, of a series; none is taken.
 * @returns fewer than wanted at the end of the series; `undefined` where there is no such series
 */
export async function nextNumbers(
  db: SqlConnection,
  id: string,
  count: number,
  now: Instant,
): Promise<readonly string[] | undefined> {
  const found = await findSeries(db, id);
  if (!found) return undefined;
  const year = yearOf(found.series, now);
  const free = await takenInVain(db, id, year, undefined, count);
  const next = await nextOf(db, id, year);
  const fresh = Array.from({ length: Math.max(0, count - free.length) }, (_, place) => next + place);
  const numbers = [...free, ...fresh.filter((number) => number <= lastNumber(found.series))];
  return numbers.map((number) => seriesText(found.series, year, number));
}

/**
 * Takes a number for each thing. One that was taken for it before stays its own; next come those that runs have taken
 * which ended without storing them, and which therefore no system was told of. Whoever takes numbers of a series waits
 * for who takes some of it now.
 * @returns by thing; those that are not in it got none, because the series is at its last number
 */
export async function takeNumbers(
  db: SqlConnection,
  { knot, run }: Pick<RunLease, 'knot' | 'run'>,
  { series: id, field, anchors, rule }: WantedNumbers,
  now: Instant,
): Promise<ReadonlyMap<AnchorId, string>> {
  await db.query('select 1 from series where id = $1 for update', [id]);
  const found = await findSeries(db, id);
  if (!found) return new Map();
  const { series } = found;
  const taking: Taking = { id, series, year: yearOf(series, now), knot, field, run, rule, now };
  const given = await takenFor(db, taking, anchors);
  let lacking = anchors.filter((anchor) => !given.has(anchor));
  // Where systems have many of the next numbers already, ever more are looked at together.
  for (let width = lacking.length; lacking.length > 0; width *= 2) {
    const { numbers, isLast } = await nextUsable(db, taking, lacking.length, width);
    const pairs = numbers.map((number, place) => ({ number, anchor: lacking[place] as AnchorId }));
    await keepTaken(db, taking, pairs);
    for (const { number, anchor } of pairs) given.set(anchor, textOf(taking, number));
    lacking = lacking.slice(pairs.length);
    if (isLast) break;
  }
  return given;
}

/** For whom, and of what, numbers are taken. */
interface Taking extends Pick<WantedNumbers, 'field' | 'rule'>, Pick<RunLease, 'knot' | 'run'> {
  readonly id: string;
  readonly series: Series;
  readonly year: number;
  readonly now: Instant;
}

const textOf = ({ series, year }: Taking, number: number): string => seriesText(series, year, number);

/**
 * The next numbers that nothing has yet: those first that were taken in vain.
 * @param wanted how many are wanted at most
 * @param width how many new ones are looked at
 * @returns `isLast` where the series has none beyond those that were looked at
 */
async function nextUsable(
  db: SqlConnection,
  taking: Taking,
  wanted: number,
  width: number,
): Promise<{ readonly numbers: readonly number[]; readonly isLast: boolean }> {
  const { id, year, series, run, now } = taking;
  const free = await takenInVain(db, id, year, run, wanted);
  const next = await nextOf(db, id, year);
  const end = Math.min(next + width - 1, lastNumber(series));
  const fresh = Array.from({ length: Math.max(0, end - next + 1) }, (_, place) => next + place);
  const used = await usedNumbers(db, taking, free, fresh);
  const unusable = free.filter((number) => used.has(number));
  if (unusable.length > 0)
    await db.query(
      `update series_number set given_at = $4, anchor_id = null
       where series_id = $1 and year = $2 and number = any($3)`,
      [id, year, unusable, new Date(now)],
    );
  const usable = [...free, ...fresh].filter((number) => !used.has(number));
  const numbers = usable.slice(0, wanted);
  // What was passed over because something has it is passed over for good.
  const upTo = usable.length > wanted ? (numbers.at(-1) ?? 0) : end;
  if (upTo >= next)
    await db.query(
      `insert into series_counter (series_id, year, next) values ($1, $2, $3)
       on conflict (series_id, year) do update set next = greatest(series_counter.next, excluded.next)`,
      [id, year, upTo + 1],
    );
  return { numbers, isLast: end >= lastNumber(series) && usable.length <= wanted };
}

async function keepTaken(
  db: SqlConnection,
  taking: Taking,
  pairs: readonly { readonly number: number; readonly anchor: AnchorId }[],
): Promise<void> {
  const { id, year, knot, field, run, now } = taking;
  await db.query(
    `insert into series_number (series_id, year, number, text, knot_id, field, anchor_id, run_id, taken_at)
       select $1, $2, n.number, n.text, $3, $4, n.anchor, $5, $6
       from unnest($7::bigint[], $8::text[], $9::uuid[]) as n(number, text, anchor)
     on conflict (series_id, year, number) do update set knot_id = excluded.knot_id, field = excluded.field,
       anchor_id = excluded.anchor_id, run_id = excluded.run_id, taken_at = excluded.taken_at, text = excluded.text
       where series_number.given_at is null`,
    [
      id,
      year,
      knot,
      field,
      run,
      new Date(now),
      pairs.map(({ number }) => number),
      pairs.map(({ number }) => textOf(taking, number)),
      pairs.map(({ anchor }) => anchor),
    ],
  );
}

/** Numbers that were stored as agreed are given from now on, for good. */
export async function giveNumbers(
  db: SqlConnection,
  { run }: Pick<RunLease, 'run'>,
  numbers: readonly { readonly anchor: AnchorId; readonly series: string; readonly text: string }[],
  at: Instant,
): Promise<void> {
  if (numbers.length === 0) return;
  await db.query(
    `update series_number s set given_at = $2 from unnest($3::text[], $4::text[], $5::uuid[]) as n(series, text, anchor)
     where s.series_id = n.series and s.text = n.text and s.anchor_id = n.anchor and s.run_id = $1
       and s.given_at is null`,
    [
      run,
      new Date(at),
      numbers.map(({ series }) => series),
      numbers.map(({ text }) => text),
      numbers.map(({ anchor }) => anchor),
    ],
  );
}

async function nextOf(db: SqlConnection, series: string, year: number): Promise<number> {
  const [row] = (await db.query('select next::float8 as next from series_counter where series_id = $1 and year = $2', [
    series,
    year,
  ])) as { next: number }[];
  return row?.next ?? 1;
}

/** What was taken before for the same things, and never stored. */
async function takenFor(
  db: SqlConnection,
  { id, year, knot, field, run }: Taking,
  anchors: readonly AnchorId[],
): Promise<Map<AnchorId, string>> {
  const rows = (await db.query(
    `with kept as (update series_number set run_id = $6 where series_id = $1 and year = $2 and knot_id = $3
       and field = $4 and anchor_id = any($5::uuid[]) and given_at is null returning anchor_id, text)
     select anchor_id, text from kept`,
    [id, year, knot, field, anchors, run],
  )) as { anchor_id: string; text: string }[];
  return new Map(rows.map((row) => [anchorId(row.anchor_id), row.text]));
}

/**
 * The least numbers that were taken by runs which have ended, and that were not stored with them.
 * @param run the one that takes numbers now
 */
async function takenInVain(
  db: SqlConnection,
  series: string,
  year: number,
  run: string | undefined,
  limit: number,
): Promise<readonly number[]> {
  const rows = (await db.query(
    `select number::float8 as number from series_number n
     where series_id = $1 and year = $2 and given_at is null and n.run_id is distinct from $3::uuid
       and not exists (select from run where run.id = n.run_id and run.ended_at is null)
     order by number limit $4`,
    [series, year, run ?? null, limit],
  )) as { number: number }[];
  return rows.map(({ number }) => number);
}

/** Numbers that something has already: given when the series looked otherwise, or by a system itself. */
async function usedNumbers(
  db: SqlConnection,
  taking: Taking,
  free: readonly number[],
  fresh: readonly number[],
): Promise<ReadonlySet<number>> {
  const { id, year, knot, rule } = taking;
  const numberOf = new Map([...free, ...fresh].map((number) => [textOf(taking, number), number]));
  const rows = (await db.query(
    `select text from series_number where series_id = $1 and text = any($2)
       and not (given_at is null and year = $3 and number = any($4))`,
    [id, [...numberOf.keys()], year, free],
  )) as { text: string }[];
  const used = new Set(rows.map(({ text }) => numberOf.get(text) as number));
  if (!rule) return used;
  const field = rule.rule.fields[0]?.field ?? '';
  const byKey = new Map<string, number>();
  for (const [text, number] of numberOf) {
    const key = keyOf(rule.rule, new Map([[field, text]]));
    if (key !== undefined) byKey.set(key, number);
  }
  const keys = [...byKey.keys()].map((key) => [rule.place, key] as const);
  for (const { key } of await anchorsWithKeys(db, knot, keys)) used.add(byKey.get(key) as number);
  return used;
}
