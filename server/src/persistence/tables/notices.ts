import type { DecisionKind, NoticeTopic } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** What needs somebody, from when to when, and the steps of it that are to be told. */

/** What goes on now, or has just happened. */
export interface NoticeCase {
  /** There is at most one of it at a time. */
  readonly key: string;
  readonly topic: NoticeTopic;
  readonly kind?: DecisionKind | undefined;
  readonly knot?: string | undefined;
  readonly system?: string | undefined;
  /** Whom alone it is told to, by their rule. */
  readonly rule?: string | undefined;
  readonly words: string;
  readonly path: string;
  readonly latest: Date;
}

export interface OpenNotice {
  readonly id: string;
  readonly key: string;
  readonly topic: NoticeTopic;
  readonly latest: Date;
  readonly words: string;
}

/** A lock on finding what is to be told: one worker at a time, so that steps are in the order of their ids. */
const findingLock = 7_210_413;

/** @returns false where somebody else is at it */
export async function lockFinding(db: SqlConnection): Promise<boolean> {
  const [row] = (await db.query('select pg_try_advisory_xact_lock($1) as is_ours', [findingLock])) as [
    { is_ours: boolean },
  ];
  return row.is_ours;
}

export async function openNotices(db: SqlConnection): Promise<readonly OpenNotice[]> {
  return (await db.query(
    'select id, case_key as key, topic, latest_at as latest, words from notice where over_at is null',
  )) as OpenNotice[];
}

/**
 * Keeps what began, and that it is to be told.
 * @param isOver where it is over as soon as it happened
 */
export async function beginNotices(
  db: SqlConnection,
  cases: readonly NoticeCase[],
  now: Date,
  isOver: boolean,
): Promise<void> {
  if (cases.length === 0) return;
  await db.query(
    `with begun as (
       insert into notice (case_key, topic, decision_kind, knot_id, system_id, rule_id, words, path, began_at,
         latest_at,
         over_at)
       select key, topic, kind, knot, system, rule, words, path, latest, latest, case when $3 then $2::timestamptz end
       from jsonb_to_recordset($1::jsonb) as r(key text, topic text, kind text, knot text, system text, rule uuid,
         words text, path text, latest timestamptz)
       returning id, words, latest_at)
     insert into notice_step (notice_id, step, words, at) select id, 'began', words, latest_at from begun order by id`,
    [JSON.stringify(cases), now, isOver],
  );
}

/** Keeps that what goes on happened again. */
export async function repeatNotices(db: SqlConnection, cases: readonly NoticeCase[]): Promise<void> {
  if (cases.length === 0) return;
  await db.query(
    `with again as (
       update notice n set words = r.words, latest_at = r.latest, times = n.times + 1
       from jsonb_to_recordset($1::jsonb) as r(key text, words text, latest timestamptz)
       where n.case_key = r.key and n.over_at is null returning n.id, n.words, n.latest_at)
     insert into notice_step (notice_id, step, words, at) select id, 'again', words, latest_at from again order by id`,
    [JSON.stringify(cases)],
  );
}

/** Keeps that what went on is over. */
export async function endNotices(
  db: SqlConnection,
  ends: readonly { readonly key: string; readonly words: string }[],
  now: Date,
): Promise<void> {
  if (ends.length === 0) return;
  await db.query(
    `with ended as (
       update notice n set over_at = $2 from jsonb_to_recordset($1::jsonb) as r(key text, words text)
       where n.case_key = r.key and n.over_at is null returning n.id, r.words)
     insert into notice_step (notice_id, step, words, at) select id, 'over', words, $2 from ended order by id`,
    [JSON.stringify(ends), now],
  );
}

export interface NoticeStep {
  readonly id: string;
  readonly step: 'began' | 'again' | 'over';
  readonly words: string;
  readonly at: Date;
  readonly topic: NoticeTopic;
  readonly kind: DecisionKind | null;
  readonly knot: string | null;
  readonly system: string | null;
  readonly rule: string | null;
  readonly path: string;
}

/** What is to be told after a step, in order; so many of it. */
export async function stepsAfter(db: SqlConnection, after: string, limit: number): Promise<readonly NoticeStep[]> {
  return (await db.query(
    `select s.id, s.step, s.words, s.at, n.topic, n.decision_kind as kind, n.knot_id as knot, n.system_id as system,
       n.rule_id as rule, n.path
     from notice_step s join notice n on n.id = s.notice_id where s.id > $1 order by s.id limit $2`,
    [after, limit],
  )) as NoticeStep[];
}

export async function lastStep(db: SqlConnection): Promise<string> {
  const [row] = (await db.query('select coalesce(max(id), 0)::text as id from notice_step')) as [{ id: string }];
  return row.id;
}

export interface NoticeRow {
  readonly id: string;
  readonly topic: NoticeTopic;
  readonly knot: string | null;
  readonly system: string | null;
  readonly words: string;
  readonly path: string;
  readonly began: Date;
  readonly latest: Date;
  readonly times: number;
  readonly over: Date | null;
}

/** A page of notices, the newest first. */
export async function noticesBefore(
  db: SqlConnection,
  before: string | undefined,
  limit: number,
): Promise<readonly NoticeRow[]> {
  return (await db.query(
    `select id, topic, knot_id as knot, system_id as system, words, path, began_at as began, latest_at as latest, times,
       over_at as over
     from notice where $1::bigint is null or id < $1 order by id desc limit $2`,
    [before ?? null, limit],
  )) as NoticeRow[];
}

/** How many notices a person has not seen, and the last that was. */
export async function unreadOf(
  db: SqlConnection,
  email: string,
): Promise<{ readonly unread: number; readonly seen: string }> {
  const [row] = (await db.query(
    `select u.notices_seen::text as seen, (select count(*)::int from notice n where n.id > u.notices_seen) as unread
     from user_account u where lower(u.email) = lower($1)`,
    [email],
  )) as { unread: number; seen: string }[];
  return row ?? { unread: 0, seen: '0' };
}

export async function markSeen(db: SqlConnection, email: string, through: string): Promise<void> {
  await db.query(
    `update user_account set notices_seen = greatest(notices_seen, least($2::bigint, (select max(id) from notice)))
     where lower(email) = lower($1)`,
    [email, through],
  );
}

/** Forgets what has been over for so long, and what was sent of it. */
export async function dropOldNotices(db: SqlConnection, days: number): Promise<void> {
  await db.query('delete from notice where over_at < now() - make_interval(days => $1)', [days]);
  await db.query(
    `delete from notice_message where state <> 'waiting' and created_at < now() - make_interval(days => $1)`,
    [days],
  );
}
