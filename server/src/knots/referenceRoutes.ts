import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { lookUpAnswerSchema, lookUpRequestSchema, problemSchema } from '@anchor-knot/contracts';
import { referenceWays } from '@anchor-knot/core';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { knownIn } from '../orchestration/bindReferences.js';
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
      // Asked is only by what the knot has, however much a request names.
      const ways = referenceWays(knot.definition);
      const { names, substitutes } = await knownIn(referenceSource(data), knot.id, {
        keys: new Map(ways.flatMap((by) => ('member' in by ? [[by.member, new Set(keys[by.member])]] : []))),
        values: new Map(ways.flatMap((by) => ('field' in by ? [[by.field, new Set(values[by.field])]] : []))),
        things: new Set(),
        ways,
      });
      const known = await namesOfThings(data, [
        ...names.map(({ anchor }) => anchor),
        ...substitutes.flatMap(({ stands }) => stands ?? []),
      ]);
      return {
        names: [...names],
        substitutes: [...substitutes],
        things: [...known].map(([id, { knot: of, title }]) => ({ $thing: id, knot: of, title })),
      };
    },
  );
}
