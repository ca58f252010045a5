import type { MemberId } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';

/** How many changed records were read of members, hour by hour (UTC). */

/** The same hour of so many weeks before tells what is usual. */
const weeks = 4;
/** Fewer may well be none. */
const fewestUsual = 20;

export async function noteRead(
  db: SqlConnection,
  knot: string,
  changed: ReadonlyMap<MemberId, number>,
  now: Date,
): Promise<void> {
  const some = [...changed].filter(([, records]) => records > 0);
  if (some.length === 0) return;
  await db.query(
    `insert into read_hour as h (knot_id, member, hour, records)
       select $1, member, date_trunc('hour', $2::timestamptz, 'UTC'), records
       from unnest($3::text[], $4::int[]) as r(member, records)
     on conflict (knot_id, member, hour) do update set records = h.records + excluded.records`,
    [knot, now, some.map(([member]) => member), some.map(([, records]) => records)],
  );
}

export interface QuietMember {
  readonly knot: string;
  readonly member: string;
  /** How many changes there are at this hour of this day of the week, in the middle of the last weeks. */
  readonly usual: number;
  /** Since when there were none. */
  readonly since: Date;
}

/**
 * Members in which nothing changed in the last full hour nor since, while at that hour there usually is much: in the
 * middle of the last weeks, those without any included. Only of knots that run.
 */
export async function unusuallyQuiet(db: SqlConnection, now: Date): Promise<readonly QuietMember[]> {
  return (await db.query(
    `with last_hour as (select date_trunc('hour', $1::timestamptz, 'UTC') - interval '1 hour' as hour),
     sample as (
       select m.knot_id, m.member, percentile_disc(0.5) within group (order by coalesce(h.records, 0)) as usual
       from (select distinct knot_id, member from read_hour, last_hour
         where read_hour.hour >= last_hour.hour - make_interval(weeks => $2)) m
       cross join last_hour cross join generate_series(1, $2) as week
       left join read_hour h on h.knot_id = m.knot_id and h.member = m.member
         and h.hour = last_hour.hour - make_interval(weeks => week)
       group by m.knot_id, m.member)
     select s.knot_id as knot, s.member, s.usual, last_hour.hour as since
     from sample s cross join last_hour join knot k on k.id = s.knot_id and k.state = 'running'
     where s.usual >= $3 and not exists (select from read_hour h where h.knot_id = s.knot_id and h.member = s.member
       and h.hour >= last_hour.hour and h.records > 0)`,
    [now, weeks, fewestUsual],
  )) as QuietMember[];
}

/** Forgets hours that nothing is compared with any more. */
export async function dropReadHours(db: SqlConnection): Promise<void> {
  await db.query('delete from read_hour where hour < now() - make_interval(weeks => $1)', [weeks + 1]);
}
