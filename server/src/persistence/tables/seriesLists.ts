import { type Instant, lastNumber, type Series, yearOf } from '@anchor-knot/core';
import type { SqlConnection, SqlDatabase } from '../sql.js';
import { findSeries } from './series.js';

/** Series as they are listed, made and changed by people. */

export interface SeriesRow {
  readonly id: string;
  readonly description: Series;
  readonly revision: number;
  readonly made_by: string;
  /** Of the year that it is now. */
  readonly next: number;
  /** How many numbers it has given, in all years. */
  readonly given: number;
}

export async function allSeries(db: SqlConnection, now: Instant): Promise<readonly SeriesRow[]> {
  const rows = (await db.query(
    `select id, description, revision, made_by,
       (select count(*)::int from series_number n where n.series_id = s.id and given_at is not null) as given,
       coalesce((select jsonb_object_agg(year, next) from series_counter c where c.series_id = s.id), '{}') as counters
     from series s order by lower(description ->> 'name'), id`,
  )) as (Omit<SeriesRow, 'next'> & { counters: Readonly<Record<string, number>> })[];
  return rows.map(({ counters, ...row }) => ({ ...row, next: counters[yearOf(row.description, now)] ?? 1 }));
}

const changedMeanwhile = { says: 'Somebody else changed it meanwhile.' } as const;

/**
 * Makes a series, or changes it.
 * @param kept its revision is 0 where it is to be new
 * @returns its revision; or why it was not kept, in words
 */
export async function keepSeries(
  data: SqlDatabase,
  kept: {
    readonly id: string;
    readonly series: Series;
    readonly next: number | undefined;
    readonly revision: number;
  },
  person: string,
  now: Instant,
): Promise<{ readonly revision: number } | { readonly says: string }> {
  const { id, series, next, revision } = kept;
  return data.transaction(async (db) => {
    await db.query('select 1 from series where id = $1 for update', [id]);
    const known = await findSeries(db, id);
    if ((known?.revision ?? 0) !== revision) return changedMeanwhile;
    const year = yearOf(series, now);
    const [row] = (await db.query(
      `select coalesce(max(number), 0)::float8 as greatest from series_number
       where series_id = $1 and year = $2 and given_at is not null`,
      [id, year],
    )) as { greatest: number }[];
    const greatest = row?.greatest ?? 0;
    if (next !== undefined && next <= greatest)
      return { says: `Number ${greatest} was given already: the next one must be above it.` };
    if ((next ?? greatest) > lastNumber(series))
      return { says: `With so few digits the last number is ${lastNumber(series)}.` };
    const stored = (await db.query(
      `insert into series (id, description, made_by, made_at) values ($1, $2, $3, $4)
       on conflict (id) do update set description = excluded.description, revision = series.revision + 1
         where series.revision = $5 returning revision`,
      [id, JSON.stringify(series), person, new Date(now), revision],
    )) as unknown[];
    if (stored.length === 0) return changedMeanwhile;
    if (next !== undefined) {
      // What was taken in vain beyond it is forgotten: it would come before.
      await db.query(
        `delete from series_number n where series_id = $1 and year = $2 and given_at is null
           and not exists (select from run where run.id = n.run_id and run.ended_at is null)`,
        [id, year],
      );
      await db.query(
        `insert into series_counter (series_id, year, next) values ($1, $2, greatest($3,
           (select coalesce(max(number), 0) + 1 from series_number where series_id = $1 and year = $2)))
         on conflict (series_id, year) do update set next = excluded.next`,
        [id, year, next],
      );
    }
    return { revision: revision + 1 };
  });
}

/** @returns whether it was removed: one that has given numbers is kept */
export async function removeSeries(db: SqlConnection, id: string): Promise<boolean> {
  const rows = (await db.query(
    `with removed as (delete from series where id = $1 and not exists (select from series_number
       where series_id = $1 and given_at is not null) returning id) select id from removed`,
    [id],
  )) as unknown[];
  return rows.length > 0;
}

export interface GivenRow {
  readonly text: string;
  readonly knot_id: string;
  readonly anchor_id: string | null;
  readonly title: string | null;
  readonly given_at: Date;
  readonly total: number;
}

/** @param search a part of a number, or of what its thing is called */
export async function givenNumbers(
  db: SqlConnection,
  series: string,
  { search, skip, limit }: { readonly search: string; readonly skip: number; readonly limit: number },
): Promise<readonly GivenRow[]> {
  return (await db.query(
    `select n.text, n.knot_id, coalesce(r.to_id, n.anchor_id) as anchor_id, a.title, n.given_at,
       (count(*) over ())::int as total
     from series_number n left join anchor_redirect r on r.from_id = n.anchor_id
       left join anchor a on a.id = coalesce(r.to_id, n.anchor_id)
     where n.series_id = $1 and n.given_at is not null
       and ($2 = '' or strpos(lower(concat_ws(' ', n.text, a.title)), lower($2)) > 0)
     order by n.year desc, n.number desc offset $3 limit $4`,
    [series, search, skip, limit],
  )) as readonly GivenRow[];
}

/** Numbers of a year before the next one that were not given, the greatest ones first. */
export async function numberGaps(
  db: SqlConnection,
  series: string,
  year: number,
): Promise<readonly { readonly from: number; readonly to: number }[]> {
  return (await db.query(
    `select "from"::float8 as "from", "to"::float8 as "to" from (
       select coalesce(lag(number) over (order by number), 0) + 1 as "from", number - 1 as "to" from (
         select number from series_number where series_id = $1 and year = $2 and given_at is not null
         union all select next from series_counter where series_id = $1 and year = $2) as known) as gaps
     where "from" <= "to" order by "from" desc`,
    [series, year],
  )) as readonly { from: number; to: number }[];
}
