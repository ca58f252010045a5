/** OpenAPI documents read, and the description that comes of one used on the real stand-in that it describes. */
import { deskServer, generateCustomers, generateWork } from '@anchor-knot/standins';
import { httpSystemSchema } from '@anchor-knot/contracts';
import { recordKey } from '@anchor-knot/core';
import { AddressFilter } from '../addressFilter.js';
import { HttpConnector } from './httpConnector.js';
import { NotOpenApi, readOpenApi } from './openApi.js';

const desk = `
openapi: 3.1.0
info: { title: Desk, version: '1' }
servers: [{ url: 'https://desk.example.com/desk/' }]
components:
  securitySchemes: { token: { type: http, scheme: bearer } }
  parameters:
    limit: { name: limit, in: query, schema: { type: integer, maximum: 20 } }
  schemas:
    Thing: { type: object, properties: { id: { type: integer }, touched: { type: integer } } }
    Ticket:
      allOf:
        - { $ref: '#/components/schemas/Thing' }
        - { type: object, properties: { subject: { type: string }, parent: { $ref: '#/components/schemas/Ticket' } } }
    Page:
      type: object
      properties: { total: { type: integer }, items: { type: array, items: { $ref: '#/components/schemas/Ticket' } } }
paths:
  /tickets:
    parameters: [{ $ref: '#/components/parameters/limit' }]
    get:
      parameters:
        - { name: offset, in: query }
        - { name: touched_from, in: query, schema: { type: integer } }
        - { name: state, in: query }
      responses:
        '200': { description: ok, content: { application/json: { schema: { $ref: '#/components/schemas/Page' } } } }
    post:
      requestBody: { content: { application/json: { schema: { $ref: '#/components/schemas/Ticket' } } } }
      responses: { '201': { description: made } }
  /tickets/{id}:
    get:
      responses:
        '200': { description: ok, content: { application/json: { schema: { $ref: '#/components/schemas/Ticket' } } } }
    patch:
      parameters: [{ name: If-Match, in: header }]
      requestBody: { content: { application/json: { schema: { $ref: '#/components/schemas/Ticket' } } } }
      responses: { '200': { description: ok } }
  /health: { get: { responses: { '200': { description: ok } } } }
`;

test('a system that nobody here has heard of is read, listed, written to by what its document says', async () => {
  const reading = readOpenApi(desk);
  expect(reading).toMatchObject({
    title: 'Desk',
    address: 'https://desk.example.com/desk',
    signIn: { kind: 'bearer token' },
  });
  expect(reading.objects.map(({ name, doubts }) => [name, doubts])).toEqual([['tickets', []]]);
  const work = generateWork(generateCustomers({ seed: 2, inBoth: 20, onlyCrm: 0, onlyShop: 0, mess: false }), {
    seed: 2,
    tickets: 45,
    projects: 1,
    tasksEach: 1,
  });
  const app = await deskServer({ ...work, token: 'secret' });
  const address = await app.listen({ host: '127.0.0.1', port: 0 });
  const system = httpSystemSchema.parse({
    kind: 'http',
    name: 'Desk',
    address: `${address}/desk/`,
    signIn: reading.signIn,
    objects: { tickets: reading.objects[0]?.object },
  });
  const connector = new HttpConnector(system, 'tickets', {
    clock: { now: () => Date.now(), sleep: async () => undefined },
    random: () => 0,
    addresses: new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] }),
    credential: { id: 'any', secret: 'secret' },
  });
  const keys = new Set<string>();
  for await (const page of connector.read({})) for (const { key } of page.records) keys.add(key);
  expect(keys.size).toBe(45);
  const [created] = await connector.write([
    { kind: 'create', idempotencyKey: 'x', fields: new Map([['subject', 'New']]) },
  ]);
  expect(created).toMatchObject({ kind: 'written', key: '8046' });
  const before = await connector.readOne(recordKey('8046'));
  const update = (subject: string) =>
    connector.write([
      { kind: 'update', key: recordKey('8046'), version: before?.version, fields: new Map([['subject', subject]]) },
    ]);
  expect((await update('Changed'))[0]).toMatchObject({ kind: 'written', record: { fields: { subject: 'Changed' } } });
  expect((await update('Too late'))[0]).toEqual({ kind: 'raced' });
  await connector.close();
  await app.close();
});

const oneObject = (list: object, fields: object, more: object = {}) =>
  readOpenApi(
    JSON.stringify({
      openapi: '3.0.3',
      paths: {
        '/things': {
          get: {
            responses: {
              200: { content: { 'application/json': { schema: { type: 'array', items: { properties: fields } } } } },
            },
            ...list,
          },
        },
        '/things/{thing}': { get: { responses: {} } },
      },
      ...more,
    }),
  ).objects[0];

test('paging, key and times are told by the words that interfaces use; what cannot be told is a doubt', () => {
  const query = (...names: string[]) => ({ parameters: names.map((name) => ({ name, in: 'query' })) });
  expect(oneObject(query('page', 'per_page'), { id: {}, updated_at: { type: 'string' } })).toMatchObject({
    object: {
      key: 'id',
      modifiedAt: { field: 'updated_at', format: 'iso' },
      list: { paging: { kind: 'page number', parameter: 'page' }, pageSize: { parameter: 'per_page' } },
    },
    doubts: [],
  });
  expect(oneObject(query('pageToken'), { uuid: {} })?.object.list.paging.kind).toBe('cursor');
  expect(oneObject(query('skip', 'modified_since'), { number: {} })?.object.list).toMatchObject({
    paging: { kind: 'offset', parameter: 'skip' },
    changedSince: { parameter: 'modified_since', format: 'iso' },
  });
  expect(oneObject({}, { colour: {} })?.doubts).toEqual([
    'which field is the key could not be told',
    'no field tells when a record was last changed',
    'how large pages are asked for could not be told',
    'how the next page is asked for was guessed',
  ]);
});

test.each([
  ['nothing of the kind', 'hello', 'does not say'],
  ['broken JSON', '{"openapi": "3.0.0",', 'neither JSON nor YAML'],
  ['version 2', '{"swagger":"2.0","paths":{}}', 'does not say'],
  ['no paths', '{"openapi":"3.0.0"}', 'no paths'],
])('%s is refused with what is wrong', (_, text, says) => {
  expect(() => readOpenApi(text)).toThrow(NotOpenApi);
  expect(() => readOpenApi(text)).toThrow(says);
});

test('a circle of references, or one that leads nowhere, ends', () => {
  const circle = { $ref: '#/components/schemas/A' };
  const components = {
    schemas: {
      A: { $ref: '#/components/schemas/B' },
      B: circle,
      C: { allOf: [{ $ref: '#/components/schemas/C' }], properties: { id: circle } },
    },
  };
  expect(
    oneObject({ responses: { 200: { content: { 'application/json': { schema: circle } } } } }, {}, { components }),
  ).toBeUndefined();
  expect(
    oneObject(
      {
        responses: {
          200: {
            content: { 'application/json': { schema: { type: 'array', items: { $ref: '#/components/schemas/C' } } } },
          },
        },
      },
      {},
      { components },
    )?.object.key,
  ).toBe('id');
  expect(oneObject({ responses: { 200: { $ref: '#/nowhere/~0at~1all' } } }, {})).toBeUndefined();
});

test('what a creation needs is taken from its body, however it is made, but for what the system sets', () => {
  const creating = (schema: object) => ({
    post: { requestBody: { content: { 'application/json': { schema } } }, responses: {} },
  });
  const requires = (schema: object) => {
    const document = {
      openapi: '3.1.0',
      paths: {
        '/things': {
          get: {
            responses: {
              200: {
                content: { 'application/json': { schema: { type: 'array', items: { properties: { id: {} } } } } },
              },
            },
          },
          ...creating(schema),
        },
        '/things/{id}': { get: { responses: {} } },
      },
    };
    return readOpenApi(JSON.stringify(document)).objects[0]?.object.create;
  };
  const properties = { id: { readOnly: true }, name: {}, email: {}, phone: {} };
  expect(requires({ properties, required: ['id', 'name', 'email'] })?.requires).toEqual(['name', 'email']);
  expect(requires({ properties })?.requires).toEqual([]);
  expect(requires({ properties, required: 'name' })?.requires).toEqual([]);
  expect(
    requires({
      allOf: [
        { properties, required: ['name'] },
        { properties: { vat: {} }, required: ['vat'] },
      ],
    })?.requires,
  ).toEqual(['name', 'vat']);
  expect(requires({ properties: { thing: { properties, required: ['name'] } }, required: ['thing'] })).toMatchObject({
    wrap: 'thing',
    requires: ['name'],
  });
});
