import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { lackedListSchema } from '@anchor-knot/contracts';
import type { ApiContext } from '../api/context.js';
import { lackedThings } from '../persistence/tables/decisionLists.js';
import { namesOfThings } from '../persistence/tables/references.js';

const mostShown = 50;

/** What waits for what, over all knots or of one. */
export function lackedRoutes(app: FastifyInstance, { data, knots }: ApiContext): void {
  app.withTypeProvider<ZodTypeProvider>().get(
    '/api/decisions/lacked',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['decisions'],
        summary: 'What references wait for, that for which most wait first',
        querystring: z.object({ knot: z.string().optional() }),
        response: { 200: lackedListSchema },
      },
    },
    async (request) => {
      const rows = await lackedThings(data, { knot: request.query.knot, isPutOff: false, now: new Date() }, mostShown);
      const known = new Map((await knots.all()).map((knot) => [knot.id, knot.definition]));
      const names = await namesOfThings(
        data,
        rows.flatMap(({ thing }) => thing ?? []),
      );
      return {
        lacked: rows.map(({ knot_id: knot, field, of_knot: of, value, thing, count, since }) => ({
          knot,
          knotName: known.get(knot)?.name ?? knot,
          field,
          fieldName: known.get(knot)?.fields.find(({ id }) => id === field)?.name ?? field,
          of,
          ofName: known.get(of)?.name ?? of,
          lacks: value ?? thing ?? '',
          thing,
          title: value ?? names.get(thing ?? '')?.title ?? 'something that is gone',
          count,
          since: since.toISOString(),
        })),
        total: rows[0]?.total ?? 0,
      };
    },
  );
}
