import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  exchangeListSchema,
  keepDetailSchema,
  operationListSchema,
  operationSchema,
  type PlannedOperation,
  problemSchema,
  runListSchema,
  runSchema,
  runViewSchema,
  startedRunSchema,
  startedTogetherSchema,
  startTogetherSchema,
  startRunSchema,
} from '@anchor-knot/contracts';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { callsLeftOut, detailRuns, exchangesAfter, keepDetail } from '../persistence/tables/exchanges.js';
import { countOperations, operationsAfter } from '../persistence/tables/plans.js';
import { askToStop, findRun, runsBefore } from '../persistence/tables/runLists.js';
import { knotStates } from '../persistence/tables/versions.js';
import { memberSummaries, runSummary, waitingRun } from '../views/summaries.js';
import { keysByMember } from '../worker/jobs.js';

const pageSize = 50;

export function runRoutes(app: FastifyInstance, { data, knots, systems, queue, events }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.post(
    '/api/knots/:knot/runs',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['runs'],
        summary: 'Start a run or a dry run',
        params: z.object({ knot: z.string() }),
        body: startRunSchema,
        response: { 202: startedRunSchema, 404: problemSchema, 409: problemSchema },
      },
    },
    async (request, reply) => {
      const { knot } = request.params;
      const inForce = await knots.inForce(knot);
      if (!inForce)
        return reply.code(404).send({
          code: 'not in force',
          says: 'No version of this knot is in force, so there is nothing to run.',
          advice: 'Put its draft in force first.',
        });
      const standing = (await knotStates(data)).get(knot);
      if (request.body.kind === 'run' && standing && standing.state !== 'running')
        return reply.code(409).send({
          code: standing.state,
          says: `This knot is ${standing.state}${standing.state_by ? `, by ${standing.state_by}` : ''}: nothing runs.`,
          advice: 'Take it up again where the knot is shown; a dry run can be made meanwhile.',
        });
      const { records = [] } = request.body;
      const members = request.body.members ?? (records.length > 0 ? [] : null);
      const wanted = [...(members ?? []), ...records.map(({ member }) => member)];
      const stranger = wanted.find((id) => !inForce.definition.members.some((member) => member.id === id));
      if (stranger !== undefined) return reply.code(404).send(noSuch('member'));
      const run = await queue.send({
        knot,
        ...request.body,
        startedBy: request.person?.name ?? '',
        cause: 'person',
        members,
        records: keysByMember(records),
      });
      return reply.code(202).send({ run });
    },
  );

  typed.post(
    '/api/runs/together',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['runs'],
        summary:
          'Start a run of every knot that runs: what is referred to first, what refers to it when that has ended',
        body: startTogetherSchema,
        response: { 202: startedTogetherSchema },
      },
    },
    async (request, reply) => {
      const { kind, knots: wanted } = request.body;
      const states = await knotStates(data);
      const started: z.output<typeof startedTogetherSchema>['runs'] = [];
      for (const { id: knot, after } of await knots.inOrder()) {
        if (kind === 'run' && states.get(knot)?.state !== 'running') continue;
        if (wanted && !wanted.includes(knot)) continue;
        const waitsFor = after.filter((other) => started.some((one) => one.knot === other));
        const run = await queue.send({
          knot,
          kind,
          startedBy: request.person?.name ?? '',
          cause: 'person',
          members: null,
          records: {},
          full: false,
          overGuards: false,
          after: waitsFor,
        });
        started.push({ knot, run, after: waitsFor });
      }
      return reply.code(202).send({ runs: started });
    },
  );

  typed.get(
    '/api/runs',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['runs'],
        summary: 'Runs, newest first',
        querystring: z.object({
          knot: z.string().optional(),
          before: z.iso.datetime().optional(),
          /** Those too that nobody started, and that found nothing to do. */
          quiet: z.stringbool().default(false),
        }),
        response: { 200: runListSchema },
      },
    },
    async (request) => {
      const { knot, before, quiet } = request.query;
      const rows = await runsBefore(
        data,
        { knot: knot || undefined, before: before ? new Date(before) : undefined, withQuiet: quiet },
        pageSize,
      );
      const waiting = before
        ? []
        : (await queue.waiting()).filter((job) => !knot || job.data.knot === knot).map((job) => waitingRun(job, 0));
      const last = rows.at(-1);
      return {
        runs: [...waiting, ...rows.map(runSummary)],
        next: rows.length === pageSize && last ? last.startedAt.toISOString() : null,
      };
    },
  );

  typed.get(
    '/api/runs/:run',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['runs'],
        summary: 'One run',
        params: z.object({ run: z.uuid() }),
        response: { 200: runViewSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const asked = await findRun(data, request.params.run);
      const job = asked ? undefined : await queue.find(request.params.run);
      // It may have been sent again under another id.
      const row = asked ?? (job && job.id !== request.params.run ? await findRun(data, job.id) : undefined);
      const knot = await knots.inForce(row?.knotId ?? job?.data.knot ?? '');
      const run = row ? runSummary(row) : job && waitingRun(job, knot?.version ?? 0);
      if (!knot || !run) return reply.code(404).send(noSuch('run'));
      return {
        run,
        knotName: knot.definition.name,
        thing: knot.definition.thing,
        members: memberSummaries(knot.definition, await systems.all()),
        fields: knot.definition.fields.map(({ id, name }) => ({ id, name })),
      };
    },
  );

  typed.get(
    '/api/runs/:run/operations',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['runs'],
        summary: 'What a run planned and wrote, record by record',
        params: z.object({ run: z.uuid() }),
        querystring: z.object({
          after: z.coerce.number().int().optional(),
          member: z.string().optional(),
          kind: operationSchema.shape.kind.optional(),
          state: z.string().optional(),
          search: z.string().max(200).optional(),
        }),
        response: { 200: operationListSchema },
      },
    },
    async (request) => {
      const { after, member, kind, state, search: text } = request.query;
      const search = { run: request.params.run, member, kind, state, text };
      const rows = await operationsAfter(data, search, after ?? 0, pageSize);
      const total = await countOperations(data, search);
      const operations = rows.map((row): PlannedOperation => ({
        id: row.id,
        anchor: row.anchor_id,
        title: row.title,
        member: row.member,
        kind: row.kind,
        key: row.record_key,
        state: row.state,
        words: row.words,
        changes: row.changes,
      }));
      return { operations, next: rows.length === pageSize ? (rows.at(-1)?.id ?? null) : null, total };
    },
  );

  typed.get(
    '/api/runs/:run/exchanges',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['runs'],
        summary: 'The calls of systems that a run made, where they were to be kept; for a day',
        params: z.object({ run: z.uuid() }),
        querystring: z.object({
          after: z
            .string()
            .regex(/^\d{1,18}$/)
            .optional(),
        }),
        response: { 200: exchangeListSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const run = await findRun(data, request.params.run);
      if (!run) return reply.code(404).send(noSuch('run'));
      const rows = await exchangesAfter(data, run.id, request.query.after, pageSize + 1);
      return {
        exchanges: rows.slice(0, pageSize).map((row) => ({ ...row, at: row.at.toISOString() })),
        next: rows.length > pageSize ? (rows[pageSize - 1]?.id ?? null) : null,
        leftOut: (await callsLeftOut(data, run.id)) ?? null,
        nextRuns: await detailRuns(data, run.knotId),
      };
    },
  );

  typed.put(
    '/api/knots/:knot/detail',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['runs'],
        summary: 'Keep the calls of the next runs of a knot, each for a day',
        params: z.object({ knot: z.string() }),
        body: keepDetailSchema,
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { knot } = request.params;
      if (!(await keepDetail(data, knot, request.body.runs))) return reply.code(404).send(noSuch('knot'));
      await writeAudit(data, request.person, 'calls kept', { knot, runs: request.body.runs });
      return reply.code(204).send(null);
    },
  );

  typed.post(
    '/api/runs/:run/stop',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['runs'],
        summary: 'Ask a run to stop; each finished record stays as it is',
        params: z.object({ run: z.uuid() }),
        response: { 202: runSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const row = await askToStop(data, request.params.run);
      return row ? reply.code(202).send(runSummary(row)) : reply.code(404).send(noSuch('open run'));
    },
  );

  app.get(
    '/api/events',
    {
      config: { role: 'viewer' },
      schema: { tags: ['runs'], summary: 'Server-sent events: runs as they change, drafts as they are kept' },
    },
    (request, reply) => {
      reply.hijack();
      reply.raw.writeHead(200, {
        'content-type': 'text/event-stream',
        'cache-control': 'no-store',
        'x-accel-buffering': 'no',
      });
      reply.raw.write('retry: 2000\n\n');
      const end = events.subscribe((event) => reply.raw.write(`data: ${JSON.stringify(event)}\n\n`));
      // Proxies close connections on which nothing is said.
      const alive = setInterval(() => reply.raw.write(': alive\n\n'), 20_000);
      request.raw.on('close', () => {
        clearInterval(alive);
        end();
      });
    },
  );
}
