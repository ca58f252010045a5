import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  type KnotDefinition,
  problemSchema,
  saidSubstituteSchema,
  substituteListSchema,
  type SubstituteRequest,
  substituteRequestSchema,
} from '@anchor-knot/contracts';
import { anchorId, referenceKey, referenceWays, type Substitute } from '@anchor-knot/core';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { knownIn } from '../orchestration/bindReferences.js';
import { referenceSource } from '../persistence/referenceSource.js';
import type { SqlConnection } from '../persistence/sql.js';
import { namesOfThings } from '../persistence/tables/references.js';
import { listSubstitutes, saySubstitute, takeBackSubstitute } from '../persistence/tables/substitutes.js';
import { wayWords } from './findReferences.js';

const pageSize = 100;

/** What stands for things and values that references cannot go by: said once, listed, and taken back. */
export function substituteRoutes(app: FastifyInstance, { data, knots, systems, scheduler }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.put(
    '/api/knots/:knot/substitutes',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['knots'],
        summary: 'Say what stands for a value that nothing is known by, or for a thing that a system cannot be told',
        params: z.object({ knot: z.string() }),
        body: substituteRequestSchema,
        response: { 200: saidSubstituteSchema, 404: problemSchema, 409: problemSchema },
      },
    },
    async (request, reply) => {
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      const says = await whyNot(data, knot.definition, request.body);
      if (says !== undefined)
        return reply.code(409).send({ code: 'not possible', says, advice: 'Choose another one.' });
      const substitute = substituteOf(knot.id, request.body);
      const now = new Date();
      const id = await saySubstitute(data, substitute, request.person?.name ?? '', now);
      await writeAudit(data, request.person, 'substitute said', { substitute: id, ...substitute });
      return { id, runs: [...(await scheduler.startReleased(knot.id, now.getTime()))] };
    },
  );

  typed.delete(
    '/api/substitutes/:id',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['knots'],
        summary: 'Take back what was said: what stands by it stays, and what comes waits again',
        params: z.object({ id: z.string().regex(/^\d{1,18}$/) }),
        response: { 200: z.object({}), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const taken = await takeBackSubstitute(data, request.params.id);
      if (!taken) return reply.code(404).send(noSuch('substitute'));
      await writeAudit(data, request.person, 'substitute taken back', { substitute: request.params.id, ...taken });
      return {};
    },
  );

  typed.get(
    '/api/substitutes',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary: 'What stands for what, of all knots, what was said last first',
        querystring: z.object({
          search: z.string().max(200).default(''),
          skip: z.coerce.number().int().min(0).max(1_000_000).default(0),
        }),
        response: { 200: substituteListSchema },
      },
    },
    async (request) => {
      const { search, skip } = request.query;
      const rows = await listSubstitutes(data, { search: search.trim(), skip, limit: pageSize });
      const known = new Map((await knots.all()).map(({ id, definition }) => [id, definition]));
      const systemNames = new Map((await systems.all()).map((system) => [system.id, system.name]));
      return {
        total: rows[0]?.total ?? 0,
        substitutes: rows.map((row) => {
          const definition = known.get(row.knot_id);
          const named = (id: string | null, title: string | null) =>
            id === null || title === null ? null : { $thing: id, knot: row.knot_id, title };
          return {
            id: row.id,
            knot: row.knot_id,
            knotName: definition?.name ?? row.knot_id,
            by: row.way,
            way: definition ? wayWords(definition, row.way, (id) => systemNames.get(id) ?? id) : '',
            of: row.value ?? named(row.anchor_id, row.of_title),
            ofKind: row.value === null ? ('thing' as const) : ('value' as const),
            stands: named(row.stands, row.stands_title),
            meansNobody: row.stands === null,
            saidBy: row.said_by,
            saidAt: row.said_at.toISOString(),
          };
        }),
      };
    },
  );
}

function substituteOf(knot: string, { by, value, thing, stands }: SubstituteRequest): Substitute {
  return {
    knot,
    by,
    of: value === null ? { anchor: anchorId(thing as string) } : { value },
    stands: stands === null ? null : anchorId(stands),
  };
}

/** Why it cannot stand for that, in words; `undefined` where it can. */
async function whyNot(
  data: SqlConnection,
  definition: KnotDefinition,
  { by, value, thing, stands }: SubstituteRequest,
): Promise<string | undefined> {
  const { id, thing: kind } = definition;
  const way = referenceWays(definition).find((one) => referenceKey(id, one) === referenceKey(id, by));
  if (!way) return 'No system refers to it in that way any more.';
  const about = await namesOfThings(
    data,
    [thing, stands].flatMap((one) => one ?? []),
  );
  if (thing !== null && about.get(thing)?.knot !== id) return `There is no such ${kind}.`;
  if (stands === null) return undefined;
  if (about.get(stands)?.knot !== id) return `There is no such ${kind} to stand for it.`;
  if (thing !== null && about.get(thing)?.anchor === about.get(stands)?.anchor) return 'It cannot stand for itself.';
  const known = await knownIn(referenceSource(data), id, {
    keys: new Map('member' in way ? [[way.member, new Set(value === null ? [] : [value])]] : []),
    values: new Map('field' in way ? [[way.field, new Set(value === null ? [] : [value])]] : []),
    things: new Set([thing, stands].flatMap((one) => (one === null ? [] : [anchorId(one)]))),
    ways: [way],
  });
  if (value !== null && known.names.some((name) => name.value === value))
    return `“${value}” is known there by now: nothing has to stand for it.`;
  const isNamed = (one: string): boolean => known.names.some(({ anchor, isGone }) => anchor === one && !isGone);
  if (thing !== null && isNamed(about.get(thing)?.anchor ?? '')) return 'It is known there by now.';
  if (thing !== null && !isNamed(about.get(stands)?.anchor ?? '')) return 'That one is not known there either.';
  return undefined;
}
