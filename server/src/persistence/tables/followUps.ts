import type { FollowedOutcome, FollowUp } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** Mails about single records: to whom and of what, and the runs that are to be told of. */

export interface FollowUpRow {
  readonly id: string;
  readonly follow_up: FollowUp;
  readonly revision: number;
  readonly changed_by: string;
  readonly changed_at: Date;
}

export async function followUps(db: SqlConnection): Promise<readonly FollowUpRow[]> {
  return (await db.query(`select * from follow_up order by lower(follow_up ->> 'name'), id`)) as FollowUpRow[];
}

export async function findFollowUp(db: SqlConnection, id: string): Promise<FollowUpRow | undefined> {
  const [row] = (await db.query('select * from follow_up where id = $1', [id])) as FollowUpRow[];
  return row;
}

/** @param seen the revision that it was made on; 0 for a new one @returns `undefined` when it is not so any more */
export async function keepFollowUp(
  db: SqlConnection,
  id: string,
  followUp: FollowUp,
  seen: number,
  person: string,
): Promise<number | undefined> {
  const values = [id, JSON.stringify(followUp), person];
  if (seen === 0) {
    const made = (await db.query(
      `insert into follow_up (id, follow_up, revision, changed_by, changed_at) values ($1, $2, 1, $3, now())
       on conflict do nothing returning revision`,
      values,
    )) as { revision: number }[];
    return made[0]?.revision;
  }
  const [[row]] = (await db.query(
    `update follow_up set follow_up = $2, revision = revision + 1, changed_by = $3, changed_at = now()
     where id = $1 and revision = $4 returning revision`,
    [...values, seen],
  )) as [{ revision: number }[], number];
  return row?.revision;
}

/** What waits to be sent by it is sent all the same. */
export async function removeFollowUp(db: SqlConnection, id: string): Promise<boolean> {
  const [rows] = (await db.query('delete from follow_up where id = $1 returning id', [id])) as [unknown[], number];
  return rows.length > 0;
}

/** Ended runs that nobody was told of yet, the first ones; they are taken by who asks. */
export async function takeUnfollowedRuns(
  db: SqlConnection,
  knots: readonly string[],
  limit: number,
): Promise<readonly { readonly id: string; readonly knot: string }[]> {
  await db.query(
    `update run set is_followed = true
     where not is_followed and ended_at is not null and knot_id <> all($1)`,
    [knots],
  );
  const [rows] = (await db.query(
    `update run set is_followed = true where id in (select id from run where not is_followed and ended_at is not null
       order by ended_at limit $1 for update skip locked) returning id, knot_id as knot, kind`,
    [limit],
  )) as [{ id: string; knot: string; kind: string }[], number];
  return rows.filter(({ kind }) => kind === 'run');
}

export interface FollowedWrite {
  readonly anchor_id: string;
  readonly record_key: string | null;
  readonly title: string;
  readonly kind: 'create' | 'update' | 'archive' | 'delete';
  readonly state: string;
  readonly words: string | null;
}

const followed = `run_id = $1 and member = $2 and case when state = 'refused' then 'refused'
  when state <> 'written' then '' when kind = 'create' then 'created' when kind = 'update' then 'updated'
  else 'removed' end = any($3)`;

/** What a run did in a member, the first ones, and how many there are. */
export async function followedWrites(
  db: SqlConnection,
  run: string,
  member: string,
  outcomes: readonly FollowedOutcome[],
  limit: number,
): Promise<{ readonly writes: readonly FollowedWrite[]; readonly count: number }> {
  const writes = (await db.query(
    `select anchor_id, record_key, title, kind, state, words from plan_operation where ${followed}
     order by id limit $4`,
    [run, member, outcomes, limit],
  )) as FollowedWrite[];
  const [{ count }] = (await db.query(`select count(*)::int as count from plan_operation where ${followed}`, [
    run,
    member,
    outcomes,
  ])) as [{ count: number }];
  return { writes, count };
}

/** How many mails were made by it since a moment. */
export async function followedSince(db: SqlConnection, id: string, since: Date): Promise<number> {
  const [row] = (await db.query(
    'select count(*)::int as count from notice_message where follow_up_id = $1 and created_at > $2',
    [id, since],
  )) as [{ count: number }];
  return row.count;
}
