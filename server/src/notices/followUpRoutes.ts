import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  followUpListSchema,
  followUpPreviewSchema,
  followUpRevisionSchema,
  followUpSchema,
  keepFollowUpSchema,
  problemSchema,
} from '@anchor-knot/contracts';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { findFollowUp, followUps, removeFollowUp } from '../persistence/tables/followUps.js';

const named = z.object({ followUp: z.uuid() });
const what = 'mail about records';
const noExample = {
  code: 'nothing to show',
  says: 'The knot has no thing yet that a mail could be about.',
  advice: 'Let it run once.',
};
const cannotBe = (problems: readonly string[]) => ({ code: 'cannot be', says: problems.join(' ') });

export function followUpRoutes(app: FastifyInstance, { data, notices, followUps: mails }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.get(
    '/api/follow-ups',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['notices'],
        summary: 'Mails about single records: after what, and to whom',
        response: { 200: followUpListSchema },
      },
    },
    async () => ({
      followUps: (await followUps(data)).map(({ id, follow_up: followUp, revision, changed_by, changed_at }) => ({
        id,
        followUp,
        revision,
        changedBy: changed_by,
        changedAt: changed_at.toISOString(),
      })),
      noMail: notices.noMail ?? null,
    }),
  );

  typed.put(
    '/api/follow-ups/:followUp',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['notices'],
        summary: 'Make or change what is mailed about single records',
        params: named,
        body: keepFollowUpSchema,
        response: { 200: followUpRevisionSchema, 409: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { followUp, revision: seen } = request.body;
      const problems = await mails.problemsOf(followUp);
      if (problems.length > 0) return reply.code(422).send(cannotBe(problems));
      const revision = await mails.keep(request.params.followUp, followUp, seen, request.person?.name ?? '');
      if (revision === undefined)
        return reply.code(409).send({
          code: 'changed meanwhile',
          says: 'Somebody changed or removed this meanwhile.',
          advice: 'Load it again; what you set is kept here until then.',
        });
      const audited = { followUp: request.params.followUp, name: followUp.name };
      await writeAudit(data, request.person, 'mail about records kept', audited);
      return { revision };
    },
  );

  typed.delete(
    '/api/follow-ups/:followUp',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['notices'],
        summary: 'Mail nothing more by it',
        params: named,
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      if (!(await removeFollowUp(data, request.params.followUp))) return reply.code(404).send(noSuch(what));
      await writeAudit(data, request.person, 'mail about records removed', { followUp: request.params.followUp });
      return reply.code(204).send(null);
    },
  );

  typed.post(
    '/api/follow-ups/preview',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['notices'],
        summary: 'What the mail about a thing of the knot would be',
        body: followUpSchema,
        response: { 200: followUpPreviewSchema, 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const problems = await mails.problemsOf(request.body);
      if (problems.length > 0) return reply.code(422).send(cannotBe(problems));
      const preview = await mails.preview(request.body);
      if (typeof preview === 'string') return reply.code(422).send(cannotBe([preview]));
      return preview ?? reply.code(404).send(noExample);
    },
  );

  typed.post(
    '/api/follow-ups/:followUp/test',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['notices'],
        summary: 'Mail what it would be to oneself',
        params: named,
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const row = await findFollowUp(data, request.params.followUp);
      if (!row) return reply.code(404).send(noSuch(what));
      const isMade = await mails.test(row, request.person?.email ?? '', new Date());
      return isMade ? reply.code(204).send(null) : reply.code(404).send(noExample);
    },
  );
}
