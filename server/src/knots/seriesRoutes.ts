import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  givenNumbersSchema,
  keepSeriesSchema,
  problemSchema,
  seriesIdSchema,
  seriesListSchema,
  type SeriesView,
} from '@anchor-knot/contracts';
import { seriesText, yearOf } from '@anchor-knot/core';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { nextNumbers } from '../persistence/tables/series.js';
import { allSeries, givenNumbers, keepSeries, numberGaps, removeSeries } from '../persistence/tables/seriesLists.js';

const pageSize = 100;
const mostGaps = 50;

/** Series of running numbers: made and changed, with what each has given, and what it left out. */
export function seriesRoutes(app: FastifyInstance, { data, knots }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();
  const name = z.object({ series: seriesIdSchema });

  async function views(): Promise<readonly SeriesView[]> {
    const now = Date.now();
    const used = (await knots.all()).flatMap(({ id: knot, definition }) =>
      definition.fields.flatMap(({ id: field, name: fieldName, series }) =>
        series === undefined ? [] : [{ series, by: { knot, knotName: definition.name, field, fieldName } }],
      ),
    );
    const rows = await allSeries(data, now);
    return Promise.all(
      rows.map(async ({ id, description, revision, next, given, made_by }) => ({
        id,
        series: description,
        revision,
        next,
        nextText: (await nextNumbers(data, id, 1, now))?.[0] ?? null,
        given,
        usedBy: used.filter(({ series }) => series === id).map(({ by }) => by),
        madeBy: made_by,
      })),
    );
  }

  typed.get(
    '/api/series',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['series'],
        summary: 'The series of running numbers, and who uses them',
        response: { 200: seriesListSchema },
      },
    },
    async () => ({ series: [...(await views())] }),
  );

  typed.put(
    '/api/series/:series',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['series'],
        summary: 'Make a series, or change it; numbers that were given stay as they are',
        params: name,
        body: keepSeriesSchema,
        response: { 200: z.object({ revision: z.number() }), 409: problemSchema },
      },
    },
    async (request, reply) => {
      const id = request.params.series;
      const { series, next, revision } = request.body;
      const kept = await keepSeries(data, { id, series, next, revision }, request.person?.name ?? '', Date.now());
      if ('says' in kept)
        return reply.code(409).send({ code: 'not possible', says: kept.says, advice: 'Load it again, and look.' });
      await writeAudit(data, request.person, 'series kept', { series: id, ...series, next });
      return { revision: kept.revision };
    },
  );

  typed.delete(
    '/api/series/:series',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['series'],
        summary: 'Remove a series that nothing uses, and that has given no number',
        params: name,
        response: { 200: z.object({}), 404: problemSchema, 409: problemSchema },
      },
    },
    async (request, reply) => {
      const id = request.params.series;
      const known = (await views()).find((one) => one.id === id);
      if (!known) return reply.code(404).send(noSuch('series'));
      const [user] = known.usedBy;
      const says = user
        ? `${user.fieldName} of ${user.knotName} takes its numbers from it.`
        : (await removeSeries(data, id))
          ? undefined
          : 'It has given numbers: without it nobody would know which.';
      if (says !== undefined) return reply.code(409).send({ code: 'not possible', says, advice: 'Leave it as it is.' });
      await writeAudit(data, request.person, 'series removed', { series: id });
      return {};
    },
  );

  typed.get(
    '/api/series/:series/numbers',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['series'],
        summary: 'Which numbers were given to what, the last one first, and which were left out',
        params: name,
        querystring: z.object({
          search: z.string().max(200).default(''),
          skip: z.coerce.number().int().min(0).max(1_000_000).default(0),
        }),
        response: { 200: givenNumbersSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const id = request.params.series;
      const now = Date.now();
      const row = (await allSeries(data, now)).find((one) => one.id === id);
      if (!row) return reply.code(404).send(noSuch('series'));
      const { search, skip } = request.query;
      const rows = await givenNumbers(data, id, { search: search.trim(), skip, limit: pageSize });
      const year = yearOf(row.description, now);
      const gaps = await numberGaps(data, id, year);
      const text = (number: number): string => seriesText(row.description, year, number);
      return {
        given: rows.map(({ text: number, knot_id, anchor_id, title, given_at }) => ({
          text: number,
          knot: knot_id,
          thing: anchor_id === null ? null : { anchor: anchor_id, title: title ?? 'something that is gone' },
          at: given_at.toISOString(),
        })),
        total: rows[0]?.total ?? 0,
        gaps: gaps.slice(0, mostGaps).map(({ from, to }) => ({ from: text(from), to: text(to), count: to - from + 1 })),
        gapTotal: gaps.reduce((sum, { from, to }) => sum + to - from + 1, 0),
      };
    },
  );
}
