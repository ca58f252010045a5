import type { NoticeRule } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** Who is told of what, how far each has been told, and when the next is due. */

export interface NoticeRuleRow {
  readonly id: string;
  readonly rule: NoticeRule;
  /** With what messages to programs are signed, encrypted. */
  readonly secret: Buffer | null;
  readonly revision: number;
  readonly changed_by: string;
  readonly changed_at: Date;
  readonly told_through: string;
  readonly due_at: Date | null;
}

export async function noticeRules(db: SqlConnection): Promise<readonly NoticeRuleRow[]> {
  return (await db.query(`select * from notice_rule order by lower(rule ->> 'name'), id`)) as NoticeRuleRow[];
}

export async function findNoticeRule(db: SqlConnection, id: string): Promise<NoticeRuleRow | undefined> {
  const [row] = (await db.query('select * from notice_rule where id = $1', [id])) as NoticeRuleRow[];
  return row;
}

/** @param dueAt when what is gathered is told; at once, where it is left out */
export async function addNoticeRule(
  db: SqlConnection,
  rule: Pick<NoticeRuleRow, 'id' | 'rule' | 'secret' | 'changed_by' | 'told_through' | 'due_at'>,
): Promise<void> {
  await db.query(
    `insert into notice_rule (id, rule, secret, revision, changed_by, changed_at, told_through, due_at)
     values ($1, $2, $3, 1, $4, now(), $5, $6)`,
    [rule.id, JSON.stringify(rule.rule), rule.secret, rule.changed_by, rule.told_through, rule.due_at],
  );
}

/** @returns the new revision; `undefined` when it is not the one that was seen any more */
export async function changeNoticeRule(
  db: SqlConnection,
  rule: Pick<NoticeRuleRow, 'id' | 'rule' | 'revision' | 'secret' | 'changed_by' | 'due_at'>,
): Promise<number | undefined> {
  const [[row]] = (await db.query(
    `update notice_rule set rule = $2, revision = revision + 1, secret = $4, changed_by = $5, changed_at = now(),
       due_at = $6 where id = $1 and revision = $3 returning revision`,
    [rule.id, JSON.stringify(rule.rule), rule.revision, rule.secret, rule.changed_by, rule.due_at],
  )) as [{ revision: number }[], number];
  return row?.revision;
}

/** What waits to be sent by it is sent all the same. */
export async function removeNoticeRule(db: SqlConnection, id: string): Promise<boolean> {
  const [rows] = (await db.query('delete from notice_rule where id = $1 returning id', [id])) as [unknown[], number];
  return rows.length > 0;
}

export async function noteTold(
  db: SqlConnection,
  id: string,
  toldThrough: string,
  dueAt: Date | undefined,
): Promise<void> {
  await db.query('update notice_rule set told_through = $2, due_at = $3 where id = $1', [
    id,
    toldThrough,
    dueAt ?? null,
  ]);
}
