import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { lookUpAnswerSchema, lookUpRequestSchema, problemSchema } from '@anchor-knot/contracts';
import { referenceWays } from '@anchor-knot/core';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { namesIn } from '../orchestration/bindReferences.js';
import { referenceSource } from '../persistence/referenceSource.js';
import { namesOfThings } from '../persistence/tables/references.js';

export function referenceRoutes(app: FastifyInstance, { data, knots }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.post(
    '/api/knots/:knot/things',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary: 'Which things records of other knots mean, by keys or values, and what else these are known by',
        params: z.object({ knot: z.string() }),
        body: lookUpRequestSchema,
        response: { 200: lookUpAnswerSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      const { keys, values } = request.body;
      const names = await namesIn(referenceSource(data), knot.id, {
        keys: new Map(Object.entries(keys).map(([member, asked]) => [member, new Set(asked)])),
        values: new Map(Object.entries(values).map(([field, asked]) => [field, new Set(asked)])),
        things: new Set(),
        ways: referenceWays(knot.definition),
      });
      const known = await namesOfThings(
        data,
        names.map(({ anchor }) => anchor),
      );
      return {
        names: [...names],
        things: [...known].map(([id, { knot: of, title }]) => ({ $thing: id, knot: of, title })),
      };
    },
  );
}
