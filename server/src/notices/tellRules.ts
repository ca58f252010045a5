import { v7 as uuid } from 'uuid';
import { slotsAfter } from '@anchor-knot/core';
import type { NoticeRule } from '@anchor-knot/contracts';
import type { SqlConnection } from '../persistence/sql.js';
import { addMessages, messagesSince } from '../persistence/tables/noticeMessages.js';
import { type NoticeRuleRow, noteTold } from '../persistence/tables/noticeRules.js';
import { lastStep, type NoticeStep, stepsAfter } from '../persistence/tables/notices.js';
import { kindsOf } from './findNotices.js';
import { renderNotice, type RenderedNotice } from './renderNotice.js';

const hourMs = 3_600_000;
/** So many steps are told of in one message; the others follow in the next. */
const mostSteps = 1000;

/**
 * Makes the messages that are due by now: what happened since each rule last told, one message for each recipient. In
 * the transaction of what happened, so that nothing is told twice or not at all.
 * @param address where people reach this installation
 */
export async function tellRules(
  db: SqlConnection,
  rules: readonly NoticeRuleRow[],
  address: string,
  now: Date,
): Promise<void> {
  const last = await lastStep(db);
  for (const row of rules) {
    if (!row.rule.isOn || row.told_through === last || (row.due_at !== null && row.due_at > now)) continue;
    const found = await stepsAfter(db, row.told_through, mostSteps);
    const steps = found.filter((step) => isTold(row, step));
    // What is too much for an hour waits, and is told together when there is room for a message.
    if (steps.length > 0 && (await isHourFull(db, row, now))) continue;
    await addMessages(db, steps.length > 0 ? messagesOf(row, await renderNotice(row, steps, address)) : [], now);
    await noteTold(db, row.id, found.at(-1)?.id ?? last, nextDue(row.rule, now));
  }
}

export function messagesOf(
  { id, rule }: Pick<NoticeRuleRow, 'id' | 'rule'>,
  rendered: RenderedNotice,
): (RenderedNotice & { id: string; rule: string; ruleName: string; recipient: NoticeRule['recipients'][number] })[] {
  return rule.recipients.map((recipient) => ({ id: uuid(), rule: id, ruleName: rule.name, recipient, ...rendered }));
}

/** Whether a rule tells of a step. Systems are told of whatever knots it is for. */
export function isTold({ id, rule }: Pick<NoticeRuleRow, 'id' | 'rule'>, step: NoticeStep): boolean {
  if (!rule.topics.includes(step.topic)) return false;
  if (step.rule !== null && step.rule !== id) return false;
  if (step.knot !== null && rule.knots !== null && !rule.knots.includes(step.knot)) return false;
  if (step.topic === 'decision' && step.kind !== null && !kindsOf(rule).includes(step.kind)) return false;
  if (step.step === 'again') return rule.isRepeated;
  return step.step === 'began' || rule.tellsEnd;
}

async function isHourFull(db: SqlConnection, { id, rule }: NoticeRuleRow, now: Date): Promise<boolean> {
  return (await messagesSince(db, id, new Date(now.getTime() - hourMs))) >= rule.mostPerHour;
}

/** When what is gathered from now on is told; `undefined` where it is told at once. */
export function nextDue({ rhythm, zone }: NoticeRule, now: Date): Date | undefined {
  switch (rhythm.kind) {
    case 'at once':
      return undefined;
    case 'hourly':
      return new Date((Math.floor(now.getTime() / hourMs) + 1) * hourMs);
    case 'daily': {
      const daily = { kind: 'days', on: { kind: 'every', days: 1 }, at: [rhythm.at] } as const;
      const next = slotsAfter(daily, { zone }, now.getTime()).next();
      return next.done ? undefined : new Date(next.value);
    }
    default:
      return rhythm satisfies never;
  }
}
