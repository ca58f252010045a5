import type { DecisionKind, Run } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** What goes on that somebody may want to be told of, as the tables of knots, runs and systems say it. */

export interface EndedRun {
  readonly id: string;
  readonly knot: string;
  readonly state: Run['state'];
  readonly words: string | null;
  readonly endedAt: Date;
}

/** Runs that ended and that nobody was told of, in order; they are told of from now on. */
export async function takeUntoldRuns(db: SqlConnection, limit: number): Promise<readonly EndedRun[]> {
  const [rows] = (await db.query(
    `update run set is_told = true where id in (select id from run where not is_told and ended_at is not null
       order by ended_at limit $1)
     returning id, knot_id as knot, case when kind = 'run' then state else 'stopped' end as state, words,
       ended_at as "endedAt"`,
    [limit],
  )) as [EndedRun[], number];
  return rows.toSorted((one, other) => one.endedAt.getTime() - other.endedAt.getTime());
}

/** A kind of decision of which some wait. */
export interface WaitingDecisions {
  readonly knot: string;
  readonly kind: DecisionKind;
  /** When the latest was opened. */
  readonly latest: Date;
}

const waits = "d.closed_at is null and coalesce(d.put_off_until, '-infinity') <= now()";

/**
 * Of which kinds some wait, in which knots. Each costs one look into an index, however many there are. Knots that are
 * just running are left out for some minutes: what a run finds is told of together.
 */
export async function kindsThatWait(
  db: SqlConnection,
  kinds: readonly DecisionKind[],
): Promise<readonly WaitingDecisions[]> {
  return (await db.query(
    `select k.id as knot, kind.name as kind, newest.opened_at as latest
     from knot k cross join unnest($1::text[]) as kind(name)
     cross join lateral (select d.opened_at from decision d
       where d.knot_id = k.id and d.kind = kind.name and ${waits} order by d.opened_at desc limit 1) newest`,
    [kinds],
  )) as WaitingDecisions[];
}

/** Knots that have been running for longer than a moment, and not for so long that nobody can wait for the end. */
export async function busyKnots(db: SqlConnection): Promise<ReadonlySet<string>> {
  const rows = (await db.query(
    `select knot_id as knot from run where ended_at is null and lease_until > now()
       and started_at between now() - interval '10 minutes' and now() - interval '2 seconds'`,
  )) as { knot: string }[];
  return new Set(rows.map(({ knot }) => knot));
}

/** How many of a kind wait, and how many of them since a moment; more than `most` are told as that many. */
export async function countWaiting(
  db: SqlConnection,
  { knot, kind }: WaitingDecisions,
  since: Date,
  most: number,
): Promise<{ readonly all: number; readonly fresh: number }> {
  const [row] = (await db.query(
    `select count(*)::int as all, (count(*) filter (where opened_at > $3))::int as fresh
     from (select opened_at from decision d where d.knot_id = $1 and d.kind = $2 and ${waits} limit $4) counted`,
    [knot, kind, since, most],
  )) as [{ all: number; fresh: number }];
  return row;
}

/** Since when decisions wait, of each kind in each knot, of those that have waited for so many hours. */
export async function longWaiting(
  db: SqlConnection,
  kinds: readonly DecisionKind[],
  hours: number,
): Promise<readonly { readonly knot: string; readonly since: Date }[]> {
  return (await db.query(
    `select k.id as knot, oldest.opened_at as since from knot k cross join unnest($2::text[]) as kind(name)
     cross join lateral (select d.opened_at from decision d where d.knot_id = k.id and d.kind = kind.name and ${waits}
       and d.opened_at < now() - make_interval(hours => $1) order by d.opened_at limit 1) oldest order by 1, 2`,
    [hours, kinds],
  )) as { knot: string; since: Date }[];
}

export async function systemsInTrouble(
  db: SqlConnection,
): Promise<readonly { readonly system: string; readonly name: string; readonly says: string; readonly at: Date }[]> {
  return (await db.query(
    `select id as system, name, trouble ->> 'words' as says, coalesce(checked_at, now()) as at from system
     where trouble is not null`,
  )) as { system: string; name: string; says: string; at: Date }[];
}

export interface EndingAccess {
  readonly system: string;
  readonly name: string;
  /** A day of UTC, `YYYY-MM-DD`. */
  readonly endsOn: string;
  readonly what: 'access' | 'certificate' | 'consent';
}

/**
 * Systems whose access ends within so many days, or has ended: as somebody has said, or as their certificate says, or
 * as was said of a consent. One that is prolonged whenever it is used ends soon only when half of its time is over.
 */
export async function endingAccess(db: SqlConnection, now: Date, days: number): Promise<readonly EndingAccess[]> {
  const by = new Date(now.getTime() + days * 24 * 3_600_000).toISOString().slice(0, 10);
  return (await db.query(
    `select id as system, name, access_ends_on::text as "endsOn", 'access' as what from system
       where access_ends_on <= $1
     union all
     select id, name, (certificate_ends_at at time zone 'UTC')::date::text, 'certificate' from system
       where (certificate_ends_at at time zone 'UTC')::date <= $1
     union all
     select id, name, (consent_ends_at at time zone 'UTC')::date::text, 'consent' from system
       where consent_ends_at - least(make_interval(days => $3), (consent_ends_at - consent_end_said_at) / 2) <= $2`,
    [by, now, days],
  )) as EndingAccess[];
}

export async function lostSubscriptions(
  db: SqlConnection,
): Promise<readonly { readonly system: string; readonly name: string; readonly objects: string; readonly at: Date }[]> {
  return (await db.query(
    `select y.id as system, y.name, string_agg(s.object, ', ' order by s.object) as objects,
       coalesce(min(s.checked_at), now()) as at
     from webhook_subscription s join system y on y.id = s.system_id
     where s.state <> 'working' and s.checked_at is not null
     group by y.id, y.name`,
  )) as { system: string; name: string; objects: string; at: Date }[];
}
