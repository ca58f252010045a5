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
  type System,
  tablesSchema,
  testSystemSchema,
  unitsSchema,
} from '@anchor-knot/contracts';
import {
  type ConnectorDependencies,
  exploreFolder,
  fetchDocument,
  listEntitySets,
  listTables,
  listUnits,
  NotOpenApi,
  previewFile,
  previewQuery,
  probeSystem,
  readOpenApi,
} from '@anchor-knot/connectors';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { orTrouble } from './orTrouble.js';
import { probeAnswer } from './systemRoutes.js';

/** What is asked of a system before its description is kept. Nothing here writes anything, here or there. */
export function trialRoutes(app: FastifyInstance, { systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  /** Asks one kind of system something with what is typed so far, and with the credential that is kept for it. */
  function trial<Kind extends System['kind'], Body extends typeof testSystemSchema, Answer extends z.ZodType>(
    path: string,
    {
      kind,
      noun,
      summary,
      body,
      answer,
    }: {
      readonly kind: Kind;
      readonly noun: string;
      readonly summary: string;
      readonly body: Body;
      readonly answer: Answer;
    },
    ask: (
      description: Extract<System, { kind: Kind }>,
      dependencies: ConnectorDependencies,
      asked: z.output<Body>,
    ) => Promise<z.input<Answer>>,
  ): void {
    // What the schema says of body and answer, the compiler cannot follow through the type parameters.
    app.post(
      path,
      {
        config: { role: 'administrator' },
        schema: { tags: ['systems'], summary, body, response: { 200: answer, 404: problemSchema, 422: problemSchema } },
      },
      async (request, reply) => {
        const asked = request.body as z.output<Body>;
        const dependencies = await dependenciesFor(asked);
        if (!dependencies || asked.description.kind !== kind) return reply.code(404).send(noSuch(noun));
        return orTrouble(reply, () => ask(asked.description as Extract<System, { kind: Kind }>, dependencies, asked));
      },
    );
  }

  /** `undefined` when a system is named that there is not. */
  async function dependenciesFor({
    description,
    credential,
    system,
  }: z.output<typeof testSystemSchema>): Promise<ConnectorDependencies | undefined> {
    const row = system === undefined ? undefined : await systems.find(system);
    return system !== undefined && !row ? undefined : systems.dependenciesToTry(description, row, credential);
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
      const dependencies = await dependenciesFor(request.body);
      return dependencies
        ? probeAnswer(await probeSystem(request.body.description, dependencies))
        : reply.code(404).send(noSuch('system'));
    },
  );

  trial(
    '/api/database-tables',
    {
      kind: 'sql',
      noun: 'database',
      summary: 'The tables that a role can see in a database',
      body: testSystemSchema,
      answer: tablesSchema,
    },
    async (description, dependencies) => ({
      tables: (await listTables(description, dependencies)).map((table) => ({
        ...table,
        times: [...table.times],
        may: [...table.may],
      })),
    }),
  );

  trial(
    '/api/query-preview',
    {
      kind: 'sql',
      noun: 'database',
      summary: 'The first rows and the columns of a query, read-only',
      body: testSystemSchema.extend({ sql: z.string().trim().min(1).max(20_000) }),
      answer: queryPreviewSchema,
    },
    async (description, dependencies, { sql }) =>
      (await previewQuery(description, sql, dependencies)) as z.input<typeof queryPreviewSchema>,
  );

  trial(
    '/api/entity-sets',
    {
      kind: 'odata',
      noun: 'service',
      summary: 'The entity sets that an OData service declares',
      body: testSystemSchema,
      answer: entitySetsSchema,
    },
    async (description, dependencies) => ({
      sets: (await listEntitySets(description, dependencies)).map((one) => ({
        ...one,
        properties: [...one.properties],
        times: [...one.times],
      })),
    }),
  );

  trial(
    '/api/units',
    {
      kind: 'http',
      noun: 'system',
      summary: 'The organisations, companies or units that the account sees',
      body: testSystemSchema,
      answer: unitsSchema,
    },
    async (description, dependencies) => ({ units: await listUnits(description, dependencies) }),
  );

  trial(
    '/api/folder-files',
    {
      kind: 'files',
      noun: 'folder',
      summary: 'The files of a folder, with how they seem to be written',
      body: testSystemSchema,
      answer: folderFilesSchema,
    },
    async (description, dependencies) => ({
      files: (await exploreFolder(description, dependencies)).map((one) => ({ ...one, sheets: [...one.sheets] })),
    }),
  );

  trial(
    '/api/file-preview',
    {
      kind: 'files',
      noun: 'folder',
      summary: 'The first rows of a file as a description reads it, and the lines that it rejects',
      body: testSystemSchema.extend({ path: z.string().min(1).max(500), object: fileObjectSchema }),
      answer: filePreviewSchema,
    },
    async (description, dependencies, { path, object }) =>
      (await previewFile(description, path, object, dependencies)) as z.input<typeof filePreviewSchema>,
  );

  typed.post(
    '/api/openapi-reading',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'What an OpenAPI 3 document says of a system: sign-in, and objects with what was guessed',
        body: z.union([
          z.strictObject({ document: z.string().min(1) }),
          z.strictObject({ address: z.url({ protocol: /^https?$/ }) }),
        ]),
        response: { 200: openApiReadingSchema, 422: problemSchema },
      },
    },
    async (request, reply) =>
      orTrouble(reply, async () => {
        const document =
          'document' in request.body
            ? request.body.document
            : await fetchDocument(request.body.address, systems.addresses);
        try {
          const reading = readOpenApi(document);
          return { ...reading, objects: reading.objects.map((object) => ({ ...object, doubts: [...object.doubts] })) };
        } catch (error) {
          if (!(error instanceof NotOpenApi)) throw error;
          return reply.code(422).send({
            code: 'not OpenAPI',
            says: `This is no OpenAPI 3 document: ${error.message}.`,
            advice: 'Give the JSON or YAML file that describes the interface.',
          });
        }
      }),
  );
}
