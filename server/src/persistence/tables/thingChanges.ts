import type { SqlConnection } from '../sql.js';

/** That something has become of the things of a knot: a row for each time that they are stored. */

export async function noteThingChange(db: SqlConnection, knot: string, at: Date): Promise<void> {
  await db.query('insert into thing_change (knot_id, at) values ($1, $2)', [knot, at]);
}

/** Another text as soon as something has become of the things of some knots. */
export async function latestThingChange(db: SqlConnection, knots: readonly string[]): Promise<string> {
  const rows = (await db.query(
    `select (select max(id) from thing_change where knot_id = asked.knot) as id
     from unnest($1::text[]) with ordinality as asked (knot, place) order by place`,
    [knots],
  )) as { id: string | null }[];
  return rows.map(({ id }) => id ?? '0').join(' ');
}

/** Whether something has become of the things of a run's knot since the run began. */
export async function thingsChangedSince(db: SqlConnection, run: string): Promise<boolean> {
  const rows = (await db.query(
    `select from run r where r.id = $1 and exists (select from thing_change c where c.knot_id = r.knot_id
       and c.id = (select max(id) from thing_change where knot_id = r.knot_id) and c.at >= r.started_at)`,
    [run],
  )) as object[];
  return rows.length > 0;
}

/** Forgets what is older than so many days, but for the last of each knot. */
export async function dropThingChanges(db: SqlConnection, days: number): Promise<void> {
  await db.query(
    `delete from thing_change c where at < now() - make_interval(days => $1)
       and exists (select from thing_change newer where newer.knot_id = c.knot_id and newer.id > c.id)`,
    [days],
  );
}
