import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  newFieldSchema,
  objectViewSchema,
  problemSchema,
  type NewFieldType,
  type Sample,
  sampleSchema,
  systemSchema,
  hasObject,
} from '@anchor-knot/contracts';
import { recordKey, type SourceRecord } from '@anchor-knot/core';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { systemClock } from '../worker/systemClock.js';
import { orTrouble } from './orTrouble.js';
import { summaryOf } from './systemRoutes.js';

const samplesOnPage = 100;
/** How far into an object samples may be paged: the system has to give everything before. */
const mostSamplePages = 100;

/** What is in the objects of systems. */
export function objectRoutes(app: FastifyInstance, context: ApiContext): void {
  const { data, systems, objects, queue } = context;
  const typed = app.withTypeProvider<ZodTypeProvider>();
  const oneObject = z.object({ system: z.string(), object: z.string() });

  typed.get(
    '/api/systems/:system/objects/:object',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['systems'],
        summary: 'What is in an object',
        params: oneObject,
        response: { 200: objectViewSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      const object =
        row &&
        (await objects.summaries(row.id, systemSchema.parse(row.description))).find(
          ({ name }) => name === request.params.object,
        );
      if (!row || !object) return reply.code(404).send(noSuch('object'));
      const { createField } =
        (row.description.kind === 'http' ? row.description.objects[object.name] : undefined) ?? {};
      return {
        system: await summaryOf(context, row),
        environment: row.environment,
        object,
        newFieldTypes: Object.keys(createField?.types ?? {}) as NewFieldType[],
        ...(await objects.details(row.id, object.name)),
      };
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
      if (!row || !hasObject(row.description, request.params.object)) return reply.code(404).send(noSuch('object'));
      await objects.sayNature(row.id, request.params.object, request.body.holds);
      return reply.code(204).send(null);
    },
  );

  typed.post(
    '/api/systems/:system/objects/:object/profile',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['systems'],
        summary: 'Read the records of an object, all or the first: take its schema, and what its fields hold',
        params: oneObject,
        body: z.object({ first: z.int().min(1).max(100_000).optional() }).default({}),
        response: { 202: z.object({ started: z.boolean() }), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { system, object } = request.params;
      const row = await systems.find(system);
      if (!row || !hasObject(row.description, object)) return reply.code(404).send(noSuch('object'));
      const started = await queue.sendProfile({ system, object, ...request.body });
      if (started) await objects.waitForProfile(system, object);
      return reply.code(202).send({ started });
    },
  );

  typed.post(
    '/api/systems/:system/objects/:object/fields',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Add a field to an object, in the system itself',
        params: oneObject,
        body: newFieldSchema,
        response: { 201: z.object({ field: z.string() }), 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { system, object } = request.params;
      const row = await systems.find(system);
      const types = row?.description.kind === 'http' ? row.description.objects[object]?.createField?.types : undefined;
      if (!row || !types) return reply.code(404).send(noSuch('object to which fields can be added'));
      const { name, type } = request.body;
      if (types[type] === undefined)
        return reply.code(422).send({
          code: 'not possible',
          says: `${row.name} has no fields of the type ${type}.`,
          advice: `Choose ${Object.keys(types).join(', ')}.`,
        });
      return orTrouble(reply, async () => {
        const connector = await systems.connect({ system, object }, systemClock);
        try {
          const field = (await connector.createField?.(name, type)) ?? name;
          await writeAudit(data, request.person, 'field added', { system, object, field });
          return reply.code(201).send({ field });
        } finally {
          await connector.close().catch(() => undefined);
        }
      });
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
        querystring: z.object({
          page: z.coerce.number().int().min(0).max(mostSamplePages).default(0),
          search: z.string().max(200).optional(),
        }),
        response: { 200: sampleSchema, 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { system, object } = request.params;
      const { page, search } = request.query;
      const row = await systems.find(system);
      if (!row || !hasObject(row.description, object)) return reply.code(404).send(noSuch('object'));
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
        for (const field of connector.capabilities.searchable)
          for (const record of await connector.search(field, search)) found.set(record.key, record);
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
