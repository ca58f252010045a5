import type { FastifyInstance, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { madeStartCallSchema, makeStartCallSchema, problemSchema, startCallsSchema } from '@anchor-knot/contracts';
import { writeAudit } from '../api/audit.js';
import { type ApiContext, publicAddressOf } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { signedHook } from '../api/signedHook.js';
import { removeStartCall, startCallsOf } from '../persistence/tables/startCalls.js';

const ofKnot = z.object({ knot: z.string() });
const largestBody = 64 * 1024;

/** Addresses at which other programs start a knot; and those addresses themselves. */
export function startCallRoutes(app: FastifyInstance, context: ApiContext): void {
  const { data, knots, startCalls } = context;
  const typed = app.withTypeProvider<ZodTypeProvider>();
  const addressOf = (request: FastifyRequest, id: string): string =>
    new URL(`/hooks/start/${id}`, publicAddressOf(context, request)).href;

  typed.get(
    '/api/knots/:knot/start-calls',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['knots'],
        summary: 'Addresses at which other programs start the knot',
        params: ofKnot,
        response: { 200: startCallsSchema },
      },
    },
    async (request) => ({
      calls: (await startCallsOf(data, request.params.knot)).map((row) => ({
        id: row.id,
        name: row.name,
        address: addressOf(request, row.id),
        madeBy: row.made_by,
        madeAt: row.made_at.toISOString(),
        lastAt: row.last_at?.toISOString() ?? null,
        taken: row.taken,
        refused: row.refused,
      })),
    }),
  );

  typed.post(
    '/api/knots/:knot/start-calls',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Make an address at which another program starts the knot; its secret is given this once',
        params: ofKnot,
        body: makeStartCallSchema,
        response: { 200: madeStartCallSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot in force'));
      const { id, secret } = await startCalls.make(knot.id, request.body.name, request.person?.name ?? '');
      await writeAudit(data, request.person, 'start call made', { knot: knot.id, call: id, name: request.body.name });
      return { id, address: addressOf(request, id), secret };
    },
  );

  typed.delete(
    '/api/knots/:knot/start-calls/:call',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Remove an address; calls to it are not taken any more',
        params: ofKnot.extend({ call: z.uuid() }),
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { knot, call } = request.params;
      if (!(await removeStartCall(data, knot, call))) return reply.code(404).send(noSuch('address'));
      await writeAudit(data, request.person, 'start call removed', { knot, call });
      return reply.code(204).send(null);
    },
  );

  signedHook(app, '/hooks/start/:id', { bytes: largestBody, perMinute: 300 }, async ({ id, headers, body }, reply) => {
    const outcome = id === undefined ? undefined : await startCalls.receive(id, headers, body);
    switch (outcome?.kind) {
      case undefined:
        return reply.code(404).send(noSuch('address'));
      case 'started':
        return reply.code(202).send({ run: outcome.run });
      case 'refused':
        return reply.code(401).send({ code: 'not taken', says: `The call is not taken: ${outcome.says}.` });
      case 'not possible':
        return reply.code(409).send({ code: 'not possible', says: outcome.says });
      default:
        throw new Error(`unknown outcome ${JSON.stringify(outcome satisfies undefined)}`);
    }
  });
}
