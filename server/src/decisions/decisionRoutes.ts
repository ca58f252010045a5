import type { FastifyInstance, FastifyReply } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  choiceSchema,
  type Decision,
  decisionKindSchema,
  decisionListSchema,
  decisionSchema,
  type MemberSummary,
  problemSchema,
} from '@anchor-knot/contracts';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { type DecisionViewRow, waitingDecisions, waitingKinds } from '../persistence/tables/decisionLists.js';
import { memberSummaries } from '../views/summaries.js';
import { decide, type DecideOutcome, undoDecision } from './decide.js';

const pageSize = 100;

export function decisionView(row: DecisionViewRow, knotName: string, fieldName: string | undefined): Decision {
  return decisionSchema.parse({
    ...row,
    knot: row.knot_id,
    knotName,
    anchor: row.anchor_id,
    key: row.record_key,
    fieldName: fieldName ?? null,
    openedAt: row.opened_at.toISOString(),
  });
}

export function decisionRoutes(app: FastifyInstance, { data, knots, systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.get(
    '/api/decisions',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['decisions'],
        summary: 'What waits for a person',
        querystring: z.object({
          knot: z.string().optional(),
          kind: decisionKindSchema.optional(),
          after: z.coerce.number().int().positive().optional(),
        }),
        response: { 200: decisionListSchema },
      },
    },
    async (request) => {
      const { knot, kind, after } = request.query;
      const rows = await waitingDecisions(data, { knot, kind }, after, pageSize);
      const kinds = await waitingKinds(data, knot);
      const total = kinds.filter((one) => !kind || one.kind === kind).reduce((sum, one) => sum + one.count, 0);
      const loaded = new Map(
        await Promise.all(
          [...new Set(rows.map(({ knot_id }) => knot_id))].map(async (id) => [id, await knots.inForce(id)] as const),
        ),
      );
      const all = await systems.all();
      const members: Record<string, MemberSummary[]> = {};
      for (const [id, one] of loaded) if (one) members[id] = memberSummaries(one.definition, all);
      const decisions = rows.map((row) => {
        const definition = loaded.get(row.knot_id)?.definition;
        return decisionView(
          row,
          definition?.name ?? row.knot_id,
          definition?.fields.find(({ id }) => id === row.field)?.name,
        );
      });
      return {
        decisions,
        next: rows.length === pageSize ? (rows.at(-1)?.id ?? null) : null,
        total,
        kinds,
        members,
      };
    },
  );

  typed.post(
    '/api/knots/:knot/decisions/:decision',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Decide',
        params: z.object({ knot: z.string(), decision: z.coerce.number().int().positive() }),
        body: choiceSchema,
        response: {
          200: z.object({ decided: z.literal(true) }),
          404: problemSchema,
          409: problemSchema,
          422: problemSchema,
        },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      return answer(
        await decide(data, knot, String(request.params.decision), request.body, request.person?.name ?? '', new Date()),
        reply,
      );
    },
  );

  typed.post(
    '/api/knots/:knot/decisions/:decision/undo',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Take a decision on a match back, or have one that was put off in its place again',
        params: z.object({ knot: z.string(), decision: z.coerce.number().int().positive() }),
        response: {
          200: z.object({ decided: z.literal(true) }),
          404: problemSchema,
          409: problemSchema,
          422: problemSchema,
        },
      },
    },
    async (request, reply) =>
      answer(
        await undoDecision(data, request.params.knot, String(request.params.decision), request.person?.name ?? ''),
        reply,
      ),
  );
}

function answer(outcome: DecideOutcome, reply: FastifyReply) {
  switch (outcome.kind) {
    case 'decided':
      return { decided: true as const };
    case 'not found':
      return reply
        .code(404)
        .send({ code: 'not found', says: 'This decision is no longer open: it was decided, or it settled by itself.' });
    case 'changed meanwhile':
      return reply.code(409).send({
        code: 'changed meanwhile',
        says: 'The values have changed since you saw them; nothing was decided.',
        advice: 'Look at the values as they are now and choose again.',
      });
    case 'not a choice':
      return reply.code(422).send({ code: 'not a choice', says: outcome.says });
    default:
      throw new Error(`unknown outcome ${JSON.stringify(outcome satisfies never)}`);
  }
}
