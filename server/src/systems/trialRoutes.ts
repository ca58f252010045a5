import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  entitySetsSchema,
  fileObjectSchema,
  filePreviewSchema,
  folderFilesSchema,
  openApiReadingSchema,
  probeSchema,
  problemSchema,
  queryPreviewSchema,
  tablesSchema,
  testSystemSchema,
  unitsSchema,
} from '@anchor-knot/contracts';
import { exploreFolder, fetchDocument, listEntitySets, listTables, listUnits, NotOpenApi, previewFile, previewQuery, probeSystem, readOpenApi } from '@anchor-knot/connectors';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { orTrouble } from './orTrouble.js';
import { probeAnswer } from './systemRoutes.js';

/** What is asked of a system before its description is kept. Nothing here writes anything, here or there. */
export function trialRoutes(app: FastifyInstance, { systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  /** What is tried, with the credential for it; `undefined` when it names a system that there is not. */
  async function tried({ description, credential, system }: z.output<typeof testSystemSchema>) {
    const row = system === undefined ? undefined : await systems.find(system);
    return system !== undefined && !row ? undefined : { description, dependencies: systems.dependenciesToTry(description, row, credential) };
  }

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
      const one = await tried(request.body);
      return one ? probeAnswer(await probeSystem(one.description, one.dependencies)) : reply.code(404).send(noSuch('system'));
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
      const { description, dependencies } = (await tried(request.body)) ?? {};
      if (!dependencies || description?.kind !== 'sql') return reply.code(404).send(noSuch('database'));
      return orTrouble(reply, async () => ({ tables: (await listTables(description, dependencies)).map((table) => ({ ...table, times: [...table.times], may: [...table.may] })) }));
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
      const { description, dependencies } = (await tried(request.body)) ?? {};
      if (!dependencies || description?.kind !== 'sql') return reply.code(404).send(noSuch('database'));
      return orTrouble(reply, async () => {
        const { fields, rows } = await previewQuery(description, request.body.sql, dependencies);
        return { fields: fields as z.input<typeof queryPreviewSchema>['fields'], rows: rows as z.input<typeof queryPreviewSchema>['rows'] };
      });
    },
  );

  typed.post(
    '/api/entity-sets',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'The entity sets that an OData service declares',
        body: testSystemSchema,
        response: { 200: entitySetsSchema, 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { description, dependencies } = (await tried(request.body)) ?? {};
      if (!dependencies || description?.kind !== 'odata') return reply.code(404).send(noSuch('service'));
      return orTrouble(reply, async () => ({
        sets: (await listEntitySets(description, dependencies)).map((one) => ({ ...one, properties: [...one.properties], times: [...one.times] })),
      }));
    },
  );

  typed.post(
    '/api/units',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'The organisations, companies or units that the account sees',
        body: testSystemSchema,
        response: { 200: unitsSchema, 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { description, dependencies } = (await tried(request.body)) ?? {};
      if (!dependencies || description?.kind !== 'http') return reply.code(404).send(noSuch('system'));
      return orTrouble(reply, async () => ({ units: await listUnits(description, dependencies) }));
    },
  );

  typed.post(
    '/api/folder-files',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'The files of a folder, with how they seem to be written',
        body: testSystemSchema,
        response: { 200: folderFilesSchema, 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { description, dependencies } = (await tried(request.body)) ?? {};
      if (!dependencies || description?.kind !== 'files') return reply.code(404).send(noSuch('folder'));
      return orTrouble(reply, async () => ({ files: (await exploreFolder(description, dependencies)).map((one) => ({ ...one, sheets: [...one.sheets] })) }));
    },
  );

  typed.post(
    '/api/file-preview',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'The first rows of a file as a description reads it, and the lines that it rejects',
        body: testSystemSchema.extend({ path: z.string().min(1).max(500), object: fileObjectSchema }),
        response: { 200: filePreviewSchema, 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { description, dependencies } = (await tried(request.body)) ?? {};
      if (!dependencies || description?.kind !== 'files') return reply.code(404).send(noSuch('folder'));
      return orTrouble(reply, async () => {
        const { rows, ...preview } = await previewFile(description, request.body.path, request.body.object, dependencies);
        return { ...preview, rows: rows as z.input<typeof filePreviewSchema>['rows'] };
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
        body: z.union([z.strictObject({ document: z.string().min(1) }), z.strictObject({ address: z.url({ protocol: /^https?$/ }) })]),
        response: { 200: openApiReadingSchema, 422: problemSchema },
      },
    },
    async (request, reply) =>
      orTrouble(reply, async () => {
        const document = 'document' in request.body ? request.body.document : await fetchDocument(request.body.address, systems.addresses);
        try {
          const reading = readOpenApi(document);
          return { ...reading, objects: reading.objects.map((one) => ({ ...one, doubts: [...one.doubts] })) };
        } catch (error) {
          if (!(error instanceof NotOpenApi)) throw error;
          return reply
            .code(422)
            .send({ code: 'not OpenAPI', says: `This is no OpenAPI 3 document: ${error.message}.`, advice: 'Give the JSON or YAML file that describes the interface.' });
        }
      }),
  );
}
