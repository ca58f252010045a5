import type { FastifyInstance, FastifyReply } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { correctionSchema, problemSchema, recordToCorrectSchema } from '@anchor-knot/contracts';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import type { RecordName } from '@anchor-knot/core';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import type { LoadedKnot } from '../knots/knots.js';
import { findDecision } from '../persistence/tables/decisions.js';
import { systemClock } from '../worker/systemClock.js';
import { correct, recordOfDecision, recordToCorrect } from './correct.js';

export const decisionParameters = z.object({ knot: z.string(), decision: z.coerce.number().int().positive() });

/** The record that a decision is about is looked at, and put right, in its own system. */
export function correctionRoutes(app: FastifyInstance, { data, knots, systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  /** Does something with the record of a decision; a system in trouble is told as that. */
  async function withRecord<Answer>(
    { knot: knotId, decision }: z.output<typeof decisionParameters>,
    reply: FastifyReply,
    act: (knot: LoadedKnot, connector: Connector, record: RecordName) => Promise<Answer>,
  ) {
    const knot = await knots.inForce(knotId);
    const row = knot && (await findDecision(data, knot.id, decision));
    const record = row && (await recordOfDecision(data, knot, row));
    const member = record && knot.definition.members.find(({ id }) => id === record.member);
    if (!member) return reply.code(404).send(noSuch('record of this decision'));
    let connector: Connector | undefined;
    try {
      connector = await systems.connect(member, systemClock);
      return await act(knot, connector, record);
    } catch (error) {
      if (!(error instanceof SystemTrouble)) throw error;
      return reply.code(409).send({ code: 'not possible', says: error.message, advice: error.advice });
    } finally {
      await connector?.close();
    }
  }

  typed.get(
    '/api/knots/:knot/decisions/:decision/record',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'The record that a decision is about, as it stands in its system now',
        params: decisionParameters,
        response: { 200: recordToCorrectSchema, 404: problemSchema, 409: problemSchema },
      },
    },
    async (request, reply) =>
      withRecord(
        request.params,
        reply,
        async (knot, connector, record) =>
          (await recordToCorrect(knot, connector, record)) ?? reply.code(404).send(noSuch('record there any more')),
      ),
  );

  typed.post(
    '/api/knots/:knot/decisions/:decision/correct',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['decisions'],
        summary: 'Correct the record in its system; the next run reads it again',
        params: decisionParameters,
        body: correctionSchema,
        response: { 200: z.object({ decided: z.literal(true) }), 404: problemSchema, 409: problemSchema },
      },
    },
    async (request, reply) =>
      withRecord(request.params, reply, async (knot, connector, record) => {
        const id = String(request.params.decision);
        const person = request.person?.name ?? '';
        const outcome = await correct(data, knot, connector, id, record, request.body, person, new Date());
        switch (outcome.kind) {
          case 'corrected':
            return { decided: true as const };
          case 'not found':
            return reply.code(404).send(noSuch('open decision'));
          case 'not possible': {
            const { kind: code, ...words } = outcome;
            return reply.code(409).send({ code, ...words });
          }
          default:
            throw new Error(`unknown outcome ${JSON.stringify(outcome satisfies never)}`);
        }
      }),
  );
}
