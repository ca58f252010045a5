import type { Message, Recipient } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** Messages to people and programs: what is to be sent, and what became of it. */

export interface NewMessage {
  readonly id: string;
  /** What it was made by. */
  readonly rule?: string;
  readonly followUp?: string;
  readonly ruleName: string;
  readonly recipient: Recipient;
  readonly subject: string;
  readonly text: string;
  readonly html: string;
  /** What programs are given. */
  readonly body: unknown;
}

export interface MessageRow {
  readonly id: string;
  readonly rule_id: string | null;
  readonly rule_name: string;
  readonly recipient: Recipient;
  readonly subject: string;
  readonly text: string;
  readonly html: string;
  readonly body: unknown;
  readonly state: Message['state'];
  readonly attempts: number;
  readonly next_at: Date | null;
  readonly trouble: string | null;
  readonly created_at: Date;
  readonly sent_at: Date | null;
}

export async function addMessages(db: SqlConnection, messages: readonly NewMessage[], now: Date): Promise<void> {
  if (messages.length === 0) return;
  await db.query(
    `insert into notice_message (id, rule_id, follow_up_id, rule_name, recipient, subject, text, html, body,
       created_at, next_at)
     select id, rule, "followUp", "ruleName", recipient, subject, text, html, body, $2, $2
     from jsonb_to_recordset($1::jsonb) as r(id uuid, rule uuid, "followUp" uuid, "ruleName" text,
       recipient jsonb, subject text, text text, html text, body jsonb)`,
    [JSON.stringify(messages), now],
  );
}

/** How many messages of a rule were made for each of its recipients since a moment, at most. */
export async function messagesSince(db: SqlConnection, rule: string, since: Date): Promise<number> {
  const [row] = (await db.query(
    `select coalesce(max(count), 0)::int as most from (select count(*) from notice_message
       where rule_id = $1 and created_at > $2 group by recipient) made`,
    [rule, since],
  )) as [{ most: number }];
  return row.most;
}

/**
 * Takes a message that is to be sent by now. Whoever takes it has so many seconds; where nothing is heard until then,
 * it is taken again.
 */
export async function takeMessage(db: SqlConnection, now: Date, seconds: number): Promise<MessageRow | undefined> {
  const [[row]] = (await db.query(
    `update notice_message set attempts = attempts + 1, next_at = $1::timestamptz + make_interval(secs => $2)
     where id = (select id from notice_message where state = 'waiting' and next_at <= $1 order by next_at limit 1
       for update skip locked)
     returning *`,
    [now, seconds],
  )) as [MessageRow[], number];
  return row;
}

/** Keeps what became of a message. @param nextAt when it is tried again; never, where it is left out */
export async function noteSending(
  db: SqlConnection,
  id: string,
  outcome: {
    readonly state: Message['state'];
    readonly trouble: string | null;
    readonly nextAt?: Date | undefined;
    readonly sentAt?: Date | undefined;
  },
): Promise<void> {
  await db.query('update notice_message set state = $2, trouble = $3, next_at = $4, sent_at = $5 where id = $1', [
    id,
    outcome.state,
    outcome.trouble,
    outcome.nextAt ?? null,
    outcome.sentAt ?? null,
  ]);
}

/** Sends a message once more, whatever became of it. @returns false where there is none of that id */
export async function sendAgain(db: SqlConnection, id: string, now: Date): Promise<boolean> {
  const [rows] = (await db.query(
    `update notice_message set state = 'waiting', attempts = 0, next_at = $2 where id = $1 returning id`,
    [id, now],
  )) as [unknown[], number];
  return rows.length > 0;
}

/** A page of messages, the newest first. @param before as `next` of the page before says it */
export async function messagesBefore(
  db: SqlConnection,
  before: string | undefined,
  limit: number,
): Promise<readonly MessageRow[]> {
  return (await db.query(
    `select * from notice_message where $1::uuid is null
       or (created_at, id) < (select created_at, id from notice_message where id = $1)
     order by created_at desc, id desc limit $2`,
    [before ?? null, limit],
  )) as MessageRow[];
}
