import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  changeSystemSchema,
  connectSystemSchema,
  credentialSchema,
  objectViewSchema,
  openApiReadingSchema,
  type Problem,
  probeSchema,
  problemSchema,
  queryPreviewSchema,
  type Sample,
  sampleSchema,
  type System,
  systemSchema,
  type SystemSummary,
  systemSummarySchema,
  type SystemView,
  systemViewSchema,
  tablesSchema,
  testSystemSchema,
} from '@anchor-knot/contracts';
import { recordKey, type SourceRecord } from '@anchor-knot/core';
import { listTables, NotOpenApi, type Probe, previewQuery, probeSystem, readOpenApi, SystemTrouble } from '@anchor-knot/connectors';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { systemSummary } from '../views/summaries.js';
import { systemClock } from '../worker/systemClock.js';

const samplesOnPage = 100;
/** How far into an object samples may be paged: the system has to give everything before. */
const mostSamplePages = 100;

export function systemRoutes(app: FastifyInstance, { data, knots, systems, objects, queue }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();
  const oneSystem = z.object({ system: z.string() });
  const oneObject = z.object({ system: z.string(), object: z.string() });

  async function summaryOf(row: SystemRow): Promise<SystemSummary> {
    const loaded = (await Promise.all((await knots.ids()).map((id) => knots.inForce(id)))).flatMap((knot) => knot ?? []);
    const uses = loaded.filter(({ definition }) => definition.members.some(({ system }) => system === row.id));
    return systemSummary(
      row,
      uses.map(({ id, definition }) => ({ knot: id, name: definition.name })),
    );
  }

  async function viewOf(row: SystemRow): Promise<SystemView> {
    const description = systemSchema.parse(row.description);
    return {
      summary: await summaryOf(row),
      description,
      note: row.note,
      environment: row.environment,
      revision: row.revision,
      signsInAs: row.credentialId,
      probe: row.probe && row.probedAt ? { ...row.probe, at: row.probedAt.toISOString() } : null,
      objects: await objects.summaries(row.id, description),
    };
  }

  typed.get(
    '/api/systems',
    {
      config: { role: 'viewer' },
      schema: { tags: ['systems'], summary: 'Connected systems and how they are', response: { 200: z.object({ systems: z.array(systemSummarySchema) }) } },
    },
    async () => ({ systems: await Promise.all((await systems.all()).map(summaryOf)) }),
  );

  typed.get(
    '/api/systems/:system',
    {
      config: { role: 'viewer' },
      schema: { tags: ['systems'], summary: 'One system and its objects', params: oneSystem, response: { 200: systemViewSchema, 404: problemSchema } },
    },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      return row ? viewOf(row) : reply.code(404).send(noSuch('system'));
    },
  );

  typed.post(
    '/api/systems',
    {
      config: { role: 'administrator' },
      schema: { tags: ['systems'], summary: 'Connect a system', body: connectSystemSchema, response: { 201: z.object({ system: z.string() }), 422: problemSchema } },
    },
    async (request, reply) => {
      const { credential, ...settings } = request.body;
      const system = await systems.connectNew({ ...settings, ...(credential ? { credential } : {}) });
      await writeAudit(data, request.person, 'system connected', { system, name: settings.description.name });
      return reply.code(201).send({ system });
    },
  );

  typed.put(
    '/api/systems/:system',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Change a system',
        params: oneSystem,
        body: changeSystemSchema,
        response: { 200: systemViewSchema, 404: problemSchema, 409: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { system } = request.params;
      const { revision, ...settings } = request.body;
      const before = await systems.find(system);
      if (!before) return reply.code(404).send(noSuch('system'));
      const missing = await objectsStillUsed(system, settings.description);
      if (missing.length > 0)
        return reply
          .code(422)
          .send({ code: 'object in use', says: `${missing.join(', ')} cannot be taken out.`, advice: 'A knot uses it: take the member out of the knot first.' });
      if (!(await systems.change(system, revision, settings)))
        return reply
          .code(409)
          .send({ code: 'changed meanwhile', says: 'Somebody else has changed this system since you opened it.', advice: 'Load it again, and make your change anew.' });
      await writeAudit(data, request.person, 'system changed', { system });
      return viewOf((await systems.find(system)) as SystemRow);
    },
  );

  async function objectsStillUsed(system: string, description: System): Promise<string[]> {
    const missing: string[] = [];
    for (const id of await knots.ids()) {
      const knot = await knots.inForce(id);
      for (const member of knot?.definition.members ?? []) {
        if (member.system === system && !Object.hasOwn(description.objects, member.object)) missing.push(`“${member.object}” (used in ${knot?.definition.name ?? id})`);
      }
    }
    return missing;
  }

  typed.put(
    '/api/systems/:system/credential',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Replace what signs in; it serves everything that uses the system',
        params: oneSystem,
        body: credentialSchema,
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { system } = request.params;
      if (!(await systems.find(system))) return reply.code(404).send(noSuch('system'));
      await systems.replaceCredential(system, request.body);
      await writeAudit(data, request.person, 'credential replaced', { system });
      return reply.code(204).send(null);
    },
  );

  typed.delete(
    '/api/systems/:system',
    {
      config: { role: 'administrator' },
      schema: { tags: ['systems'], summary: 'Disconnect a system that no knot uses', params: oneSystem, response: { 204: z.null(), 404: problemSchema, 409: problemSchema } },
    },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      if (!row) return reply.code(404).send(noSuch('system'));
      const { usedIn } = await summaryOf(row);
      if (usedIn.length > 0)
        return reply.code(409).send({ code: 'in use', says: `${row.name} is used in ${usedIn.map(({ name }) => name).join(', ')}.`, advice: 'Take it out of the knots first.' });
      await systems.remove(row.id);
      await writeAudit(data, request.person, 'system disconnected', { system: row.id, name: row.name });
      return reply.code(204).send(null);
    },
  );

  typed.post(
    '/api/system-test',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Try a description step by step, before it is kept; writes nothing',
        body: testSystemSchema,
        response: { 200: probeSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { description, credential, system } = request.body;
      const row = system === undefined ? undefined : await systems.find(system);
      if (system !== undefined && !row) return reply.code(404).send(noSuch('system'));
      return answer(await probeSystem(description, systems.dependencies(row, systemClock, credential)));
    },
  );

  typed.post(
    '/api/systems/:system/probe',
    {
      config: { role: 'operator' },
      schema: { tags: ['systems'], summary: 'Try a connected system, and keep how it went', params: oneSystem, response: { 200: probeSchema, 404: problemSchema } },
    },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      return row ? answer(await systems.probe(row)) : reply.code(404).send(noSuch('system'));
    },
  );

  typed.post(
    '/api/database-tables',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'The tables that a role can see in a database',
        body: testSystemSchema,
        response: { 200: tablesSchema, 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { description, credential, system } = request.body;
      const row = system === undefined ? undefined : await systems.find(system);
      if (description.kind !== 'sql' || (system !== undefined && !row)) return reply.code(404).send(noSuch('database'));
      return orTrouble(reply, async () => ({
        tables: (await listTables(description, systems.dependencies(row, systemClock, credential))).map((table) => ({ ...table, times: [...table.times], may: [...table.may] })),
      }));
    },
  );

  typed.post(
    '/api/query-preview',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'The first rows and the columns of a query, read-only',
        body: testSystemSchema.extend({ sql: z.string().trim().min(1).max(20_000) }),
        response: { 200: queryPreviewSchema, 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { description, credential, system, sql } = request.body;
      const row = system === undefined ? undefined : await systems.find(system);
      if (description.kind !== 'sql' || (system !== undefined && !row)) return reply.code(404).send(noSuch('database'));
      return orTrouble(reply, async () => {
        const { fields, rows } = await previewQuery(description, sql, systems.dependencies(row, systemClock, credential));
        return { fields: fields as z.input<typeof queryPreviewSchema>['fields'], rows: rows as z.input<typeof queryPreviewSchema>['rows'] };
      });
    },
  );

  typed.post(
    '/api/openapi-reading',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'What an OpenAPI 3 document says of a system: sign-in, and objects with what was guessed',
        body: z.object({ document: z.string().min(1) }),
        response: { 200: openApiReadingSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      try {
        const reading = readOpenApi(request.body.document);
        return { ...reading, objects: reading.objects.map((one) => ({ ...one, doubts: [...one.doubts] })) };
      } catch (error) {
        if (!(error instanceof NotOpenApi)) throw error;
        return reply
          .code(422)
          .send({ code: 'not OpenAPI', says: `This is no OpenAPI 3 document: ${error.message}.`, advice: 'Give the JSON or YAML file that describes the interface.' });
      }
    },
  );

  typed.get(
    '/api/systems/:system/objects/:object',
    { config: { role: 'viewer' }, schema: { tags: ['systems'], summary: 'What is in an object', params: oneObject, response: { 200: objectViewSchema, 404: problemSchema } } },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      const object = row && (await objects.summaries(row.id, systemSchema.parse(row.description))).find(({ name }) => name === request.params.object);
      if (!row || !object) return reply.code(404).send(noSuch('object'));
      return { system: await summaryOf(row), environment: row.environment, object, ...(await objects.details(row.id, object.name)) };
    },
  );

  typed.put(
    '/api/systems/:system/objects/:object/holds',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['systems'],
        summary: 'Say whether an object holds things that change, or events that are only added',
        params: oneObject,
        body: z.object({ holds: z.enum(['things that change', 'events']) }),
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      if (!row || !Object.hasOwn(row.description.objects, request.params.object)) return reply.code(404).send(noSuch('object'));
      await objects.sayNature(row.id, request.params.object, request.body.holds);
      return reply.code(204).send(null);
    },
  );

  typed.post(
    '/api/systems/:system/objects/:object/look',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['systems'],
        summary: 'Read all records of an object: take its schema, and what its fields hold',
        params: oneObject,
        response: { 202: z.object({ started: z.boolean() }), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { system, object } = request.params;
      const row = await systems.find(system);
      if (!row || !Object.hasOwn(row.description.objects, object)) return reply.code(404).send(noSuch('object'));
      const started = await queue.sendLook({ system, object });
      if (started) await objects.waitForLook(system, object);
      return reply.code(202).send({ started });
    },
  );

  typed.get(
    '/api/systems/:system/objects/:object/records',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['systems'],
        summary: 'Sample records, straight from the system',
        params: oneObject,
        querystring: z.object({ page: z.coerce.number().int().min(0).max(mostSamplePages).default(0), search: z.string().max(200).optional() }),
        response: { 200: sampleSchema, 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { system, object } = request.params;
      const { page, search } = request.query;
      const row = await systems.find(system);
      if (!row || !Object.hasOwn(row.description.objects, object)) return reply.code(404).send(noSuch('object'));
      return orTrouble(reply, () => sample(row, object, page, search?.trim() || undefined));
    },
  );

  async function sample(row: SystemRow, object: string, wanted: number, search: string | undefined): Promise<Sample> {
    const connector = await systems.connect({ system: row.id, object }, systemClock);
    const shown = (records: readonly SourceRecord[], more: boolean): Sample => ({
      records: records.map(({ key, fields }) => ({ key, fields: fields as Sample['records'][number]['fields'] })),
      more,
    });
    try {
      if (search !== undefined) {
        const byKey = await connector.readOne(recordKey(search));
        const found = new Map(byKey ? [[byKey.key, byKey]] : []);
        for (const field of connector.capabilities.searchable) for (const record of await connector.search(field, search)) found.set(record.key, record);
        return shown([...found.values()].slice(0, 100), false);
      }
      const from = wanted * samplesOnPage;
      const records: SourceRecord[] = [];
      let passed = 0;
      for await (const page of connector.read({})) {
        records.push(...page.records.slice(Math.max(0, from - passed)));
        passed += page.records.length;
        // One more than is shown tells that there are more.
        if (records.length > samplesOnPage) break;
      }
      return shown(records.slice(0, samplesOnPage), records.length > samplesOnPage);
    } finally {
      await connector.close().catch(() => undefined);
    }
  }
}

function answer(probe: Probe): z.input<typeof probeSchema> {
  return { ...probe, steps: probe.steps.map((step) => ({ ...step })) };
}

/** A system's trouble is an answer that a person can act on, not a fault of ours. */
async function orTrouble<T>(reply: { code(status: 422): { send(problem: Problem): unknown } }, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (!(error instanceof SystemTrouble)) throw error;
    return reply.code(422).send({ code: error.code, says: error.message, advice: error.advice }) as T;
  }
}
