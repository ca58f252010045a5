import { type DecisionKind, passingKinds } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** How knots stand: numbers for the views that watch over them. What was put off until a day waits for nobody. */

const waits = "closed_at is null and coalesce(put_off_until, '-infinity') <= now()";

/** How many things a knot has, in how many everything agrees, and how many decisions wait. */
export async function standingOf(
  db: SqlConnection,
  knot: string,
): Promise<{ readonly anchors: number; readonly agree: number; readonly decisions: number }> {
  const [row] = (await db.query(
    `select count(*)::int as anchors, (count(*) filter (where not open))::int as agree,
       (select count(*)::int from decision where knot_id = $1 and ${waits}) as decisions
     from anchor where knot_id = $1`,
    [knot],
  )) as [{ anchors: number; agree: number; decisions: number }];
  return row;
}

/** How many open decisions about each member wait for a person, and not for something that comes by itself. */
export async function waitingByMember(db: SqlConnection, knot: string): Promise<ReadonlyMap<string, number>> {
  const rows = (await db.query(
    `select member, count(*)::int as count from decision
     where knot_id = $1 and ${waits} and member is not null and kind <> all($2::text[]) group by member`,
    [knot, [...passingKinds]],
  )) as { member: string; count: number }[];
  return new Map(rows.map(({ member, count }) => [member, count]));
}

export interface WaitingKind {
  readonly knot: string;
  readonly kind: DecisionKind;
  readonly count: number;
  /** The words of one of them. */
  readonly example: string;
  readonly since: Date;
}

/** What waits in all knots, by kind; the most first. */
export async function waitingByKind(db: SqlConnection): Promise<readonly WaitingKind[]> {
  return (await db.query(
    `select knot_id as knot, kind, count(*)::int as count, min(says) as example, min(opened_at) as since
     from decision where ${waits} group by knot_id, kind order by count(*) desc`,
  )) as WaitingKind[];
}

/** How many values were written in each of the last 24 hours, the present one last. */
export async function writtenByHour(
  db: SqlConnection,
): Promise<readonly { readonly hour: Date; readonly values: number }[]> {
  return (await db.query(
    `with written as (
       select date_trunc('hour', j.at) as hour, count(*)::int as values from knot k
       join journal j on j.knot_id = k.id and j.at >= date_trunc('hour', now()) - interval '23 hours'
       where j.kind in ('create', 'update') group by 1)
     select h as hour, coalesce(w.values, 0) as values
     from generate_series(date_trunc('hour', now()) - interval '23 hours', date_trunc('hour', now()),
       interval '1 hour') h left join written w on w.hour = h order by h`,
  )) as { hour: Date; values: number }[];
}
