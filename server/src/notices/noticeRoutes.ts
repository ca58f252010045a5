import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  keepNoticeRuleSchema,
  keptRuleSchema,
  type Message,
  messageListSchema,
  type Notice,
  noticeListSchema,
  noticeRulesSchema,
  problemSchema,
  readNoticesSchema,
  unreadSchema,
} from '@anchor-knot/contracts';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { type MessageRow, messagesBefore, sendAgain } from '../persistence/tables/noticeMessages.js';
import { type NoticeRuleRow, noticeRules, removeNoticeRule } from '../persistence/tables/noticeRules.js';
import { markSeen, type NoticeRow, noticesBefore, unreadOf } from '../persistence/tables/notices.js';

const pageSize = 50;
const noticePage = z.object({
  before: z
    .string()
    .regex(/^\d{1,18}$/)
    .optional(),
});
const messagePage = z.object({ before: z.uuid().optional() });
const ruleName = z.object({ rule: z.uuid() });
const nothing = z.null();

export function noticeRoutes(app: FastifyInstance, { data, knots, systems, notices }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.get(
    '/api/notices',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['notices'],
        summary: 'What needs, or needed, somebody; the newest first',
        querystring: noticePage,
        response: { 200: noticeListSchema },
      },
    },
    async (request) => {
      const { unread, seen } = await unreadOf(data, request.person?.email ?? '');
      const rows = await noticesBefore(data, request.query.before, pageSize + 1);
      const names = await namesOfSubjects();
      return {
        notices: rows.slice(0, pageSize).map((row) => noticeView(row, names, BigInt(seen))),
        next: rows.length > pageSize ? (rows[pageSize - 1]?.id ?? null) : null,
        unread,
      };
    },
  );

  async function namesOfSubjects(): Promise<ReadonlyMap<string, string>> {
    return new Map([
      ...(await systems.all()).map(({ id, name }) => [`system ${id}`, name] as const),
      ...(await knots.all()).map(({ id, definition }) => [`knot ${id}`, definition.name] as const),
    ]);
  }

  typed.get(
    '/api/notices/unread',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['notices'],
        summary: 'How many notices the person has not seen',
        response: { 200: unreadSchema },
      },
    },
    async (request) => ({ unread: (await unreadOf(data, request.person?.email ?? '')).unread }),
  );

  typed.post(
    '/api/notices/read',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['notices'],
        summary: 'Say that notices were seen',
        body: readNoticesSchema,
        response: { 204: nothing },
      },
    },
    async (request, reply) => {
      await markSeen(data, request.person?.email ?? '', request.body.through);
      return reply.code(204).send(null);
    },
  );

  typed.get(
    '/api/notice-rules',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['notices'],
        summary: 'Who is told of what, and how',
        response: { 200: noticeRulesSchema },
      },
    },
    async () => ({ rules: (await noticeRules(data)).map(ruleView), noMail: notices.noMail ?? null }),
  );

  typed.put(
    '/api/notice-rules/:rule',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['notices'],
        summary: 'Make or change a rule of who is told of what',
        params: ruleName,
        body: keepNoticeRuleSchema,
        response: { 200: keptRuleSchema, 409: problemSchema },
      },
    },
    async (request, reply) => {
      const { rule, revision } = request.body;
      const kept = await notices.keep(request.params.rule, rule, revision, request.person?.name ?? '', new Date());
      if (!kept)
        return reply.code(409).send({
          code: 'changed meanwhile',
          says: 'Somebody changed or removed this meanwhile.',
          advice: 'Load it again; what you set is kept here until then.',
        });
      await writeAudit(data, request.person, 'notice rule kept', { rule: request.params.rule, name: rule.name });
      return kept;
    },
  );

  typed.delete(
    '/api/notice-rules/:rule',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['notices'],
        summary: 'Remove a rule; nobody is told by it any more',
        params: ruleName,
        response: { 204: nothing, 404: problemSchema },
      },
    },
    async (request, reply) => {
      if (!(await removeNoticeRule(data, request.params.rule)))
        return reply.code(404).send(noSuch('entry of who is told'));
      await writeAudit(data, request.person, 'notice rule removed', { rule: request.params.rule });
      return reply.code(204).send(null);
    },
  );

  typed.post(
    '/api/notice-rules/:rule/test',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['notices'],
        summary: 'Send a message to everybody of a rule that says only that it comes',
        params: ruleName,
        response: { 204: nothing, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const isThere = await notices.test(request.params.rule, request.person?.name ?? '', new Date());
      return isThere ? reply.code(204).send(null) : reply.code(404).send(noSuch('entry of who is told'));
    },
  );

  typed.get(
    '/api/notice-messages',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['notices'],
        summary: 'Messages that were sent or are to be; the newest first',
        querystring: messagePage,
        response: { 200: messageListSchema },
      },
    },
    async (request) => {
      const rows = await messagesBefore(data, request.query.before, pageSize + 1);
      return {
        messages: rows.slice(0, pageSize).map(messageView),
        next: rows.length > pageSize ? (rows[pageSize - 1]?.id ?? null) : null,
      };
    },
  );

  typed.post(
    '/api/notice-messages/:message/again',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['notices'],
        summary: 'Send a message once more',
        params: z.object({ message: z.uuid() }),
        response: { 204: nothing, 404: problemSchema },
      },
    },
    async (request, reply) => {
      if (!(await sendAgain(data, request.params.message, new Date()))) return reply.code(404).send(noSuch('message'));
      return reply.code(204).send(null);
    },
  );
}

function noticeView(row: NoticeRow, names: ReadonlyMap<string, string>, seen: bigint): Notice {
  const about = row.knot === null ? names.get(`system ${row.system}`) : names.get(`knot ${row.knot}`);
  return {
    id: row.id,
    topic: row.topic,
    about: about ?? row.knot ?? row.system ?? '',
    words: row.words,
    path: row.path,
    beganAt: row.began.toISOString(),
    latestAt: row.latest.toISOString(),
    times: row.times,
    overAt: row.over?.toISOString() ?? null,
    isUnread: BigInt(row.id) > seen,
  };
}

function ruleView({ id, rule, revision, changed_by, changed_at, due_at }: NoticeRuleRow) {
  return {
    id,
    rule,
    revision,
    changedBy: changed_by,
    changedAt: changed_at.toISOString(),
    dueAt: due_at?.toISOString() ?? null,
  };
}

function messageView(row: MessageRow): Message {
  return {
    id: row.id,
    ruleName: row.rule_name,
    recipient: row.recipient,
    subject: row.subject,
    text: row.text,
    state: row.state,
    attempts: row.attempts,
    nextAt: row.state === 'waiting' ? (row.next_at?.toISOString() ?? null) : null,
    trouble: row.trouble,
    createdAt: row.created_at.toISOString(),
    sentAt: row.sent_at?.toISOString() ?? null,
  };
}
