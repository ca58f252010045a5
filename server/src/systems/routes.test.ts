/**
 * What an administrator asks of systems over the API before and after they are connected: answers, refusals, and
 * nothing kept that was not meant.
 */
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { FastifyInstance } from 'fastify';
import { Pool } from 'pg';
import {
  filesSystemSchema,
  httpSystemSchema,
  odataSystemSchema,
  type Problem,
  sqlSystemSchema,
} from '@anchor-knot/contracts';
import {
  boardsServer,
  erpRole,
  erpServer,
  generateBusiness,
  generateCustomers,
  generateWork,
  openErpDatabase,
} from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const customers = generateCustomers({ seed: 6, inBoth: 12, onlyCrm: 3, onlyShop: 3, mess: false });
const secret = 'a secret of the systems';
const pennant = { pattern: 'disc', colour: 'plum', letters: 'XX' };
let database: TestDatabase;
/** Of another: where the application’s own database is, no system may be. */
let erpDatabase: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
let pool: Pool;
let erp: FastifyInstance;
let boards: FastifyInstance;
let folder: string;
let addresses: { erp: string; boards: string };
let place: URL;

beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(database, customers);
  api = await ApiClient.start(installation);
  erpDatabase = await TestDatabase.start();
  place = new URL((await erpDatabase.fresh()).url);
  pool = await openErpDatabase(place.href, secret, () =>
    generateBusiness(customers, { seed: 6, documents: 30, mess: false }),
  );
  erp = await erpServer({ pool: new Pool({ ...pool.options }), secret });
  boards = await boardsServer({
    rows: generateWork(customers, { seed: 6, tickets: 1, projects: 3, tasksEach: 2 }).rows,
    key: secret,
  });
  addresses = {
    erp: await erp.listen({ host: '127.0.0.1', port: 0 }),
    boards: await boards.listen({ host: '127.0.0.1', port: 0 }),
  };
  folder = mkdtempSync(join(tmpdir(), 'anchor-knot-routes-'));
  writeFileSync(join(folder, 'list.csv'), 'no;name\n1;One\n2;Two\n3\n');
});
afterAll(async () => {
  await api.close();
  await erp.close();
  await boards.close();
  await pool.end();
  await installation.stop();
  await database.stop();
  await erpDatabase.stop();
  rmSync(folder, { recursive: true, force: true });
});

const ask = (url: string, payload: unknown) => api.as('administrator', 'POST', url, payload);
const problem = (answer: { json: () => unknown }): Problem => answer.json() as Problem;
const http = (more: object = {}) =>
  httpSystemSchema.parse({
    kind: 'http',
    name: 'S',
    address: addresses.boards,
    signIn: { kind: 'header key', header: 'x-pegline-key' },
    objects: {},
    ...more,
  });
const odata = () =>
  odataSystemSchema.parse({
    kind: 'odata',
    name: 'O',
    address: `${addresses.erp}/odata`,
    signIn: { kind: 'key and secret' },
    objects: {},
  });
const sql = () =>
  sqlSystemSchema.parse({
    kind: 'sql',
    name: 'D',
    host: place.hostname,
    port: Number(place.port),
    database: 'coldharbour',
    tls: 'off',
    objects: {},
  });
const files = (more: object = {}) =>
  filesSystemSchema.parse({ kind: 'files', name: 'F', folder, objects: {}, ...more });
const credential = { id: erpRole, secret };
const unit = {
  list: { path: '/v2/boards/installations/workspaces', items: 'workspaces', id: 'id', name: 'title' },
  header: 'x-pegline-workspace',
};
const fileObject = { path: 'list.csv', format: 'csv', key: 'no', delimiter: ';' };

describe('before a system is connected', () => {
  test('a database tells its tables, a query its columns and rows', async () => {
    const { tables } = (await ask('/api/database-tables', { description: sql(), credential })).json() as {
      tables: { table: string; key: string }[];
    };
    expect(tables.find(({ table }) => table === 'debtor')).toMatchObject({ key: 'debtor_no', times: ['changed_at'] });
    const preview = await ask('/api/query-preview', {
      description: sql(),
      credential,
      sql: 'select kind::text as kind, count(*) as documents from sales_document group by 1 order by 1',
    });
    expect(preview.json()).toMatchObject({
      fields: [
        { path: 'kind', type: 'text' },
        { path: 'documents', type: 'number' },
      ],
      rows: expect.arrayContaining([expect.objectContaining({ kind: 'order' })]) as unknown,
    });
    expect(
      problem(await ask('/api/query-preview', { description: sql(), credential, sql: 'select nothing from nowhere' }))
        .says,
    ).toContain('nowhere');
    const own = new URL(installation.url);
    expect(
      problem(
        await ask('/api/database-tables', {
          description: { ...sql(), host: own.hostname, port: Number(own.port) },
          credential,
        }),
      ).says,
    ).toContain('own database');
  });

  test('a service tells its entity sets', async () => {
    const { sets } = (await ask('/api/entity-sets', { description: odata(), credential })).json() as {
      sets: { name: string }[];
    };
    expect(sets.map(({ name }) => name)).toEqual(['Debtors', 'SalesDocuments', 'SalesLines', 'Articles', 'Staff']);
    expect(sets[4]).toMatchObject({ key: 'StaffNo', insertable: false, updatable: false, times: [] });
    expect(
      await ask('/api/entity-sets', { description: odata(), credential: { id: erpRole, secret: 'wrong' } }),
    ).toMatchObject({ statusCode: 422 });
  });

  test('an interface tells its units', async () => {
    const { units } = (
      await ask('/api/units', { description: http({ unit }), credential: { id: 'x', secret } })
    ).json() as { units: unknown[] };
    expect(units).toEqual([
      { id: 'works', name: 'Hazelmoor Glasshouse Works' },
      { id: 'practice', name: 'Practice boards' },
    ]);
    expect((await ask('/api/units', { description: http(), credential: { id: 'x', secret } })).json()).toEqual({
      units: [],
    });
  });

  test('a folder tells its files; a preview shows good rows and rejected lines', async () => {
    const found = (await ask('/api/folder-files', { description: files() })).json() as {
      files: { path: string; object: object }[];
    };
    expect(found.files).toMatchObject([{ path: 'list.csv', object: { delimiter: ';', key: 'no', encoding: 'utf-8' } }]);
    const preview = (
      await ask('/api/file-preview', { description: files(), path: 'list.csv', object: fileObject })
    ).json();
    expect(preview).toEqual({
      columns: ['no', 'name'],
      rows: [
        { no: '1', name: 'One' },
        { no: '2', name: 'Two' },
      ],
      count: 2,
      rejected: [{ line: 4, reason: 'it has 1 values, the header has 2' }],
    });
    expect(
      problem(await ask('/api/file-preview', { description: files(), path: '../../etc/passwd', object: fileObject })),
    ).toMatchObject({ code: 'not allowed' });
    expect(problem(await ask('/api/folder-files', { description: files({ folder: '/etc' }) }))).toMatchObject({
      code: 'not allowed',
      says: expect.stringContaining('may not read') as unknown,
    });
    expect(
      problem(await ask('/api/folder-files', { description: files({ folder: join(folder, 'no') }) })),
    ).toMatchObject({ code: 'file problem' });
  });

  test(
    'an OpenAPI document is read from its text or its address, and one that is none is ' + 'said to be none',
    async () => {
      const document = JSON.stringify({
        openapi: '3.1.0',
        info: { title: 'T' },
        paths: { '/x': { get: { responses: {} } } },
      });
      expect((await ask('/api/openapi-reading', { document })).json()).toMatchObject({ title: 'T', objects: [] });
      expect((await ask('/api/openapi-reading', { address: `${api.address}/api/openapi.json` })).json()).toMatchObject({
        title: 'Anchor Knot',
      });
      expect(problem(await ask('/api/openapi-reading', { document: 'a: shopping list' }))).toMatchObject({
        code: 'not OpenAPI',
      });
      expect(problem(await ask('/api/openapi-reading', { address: `${addresses.boards}/faults.json` }))).toMatchObject({
        code: 'not OpenAPI',
      });
      expect(problem(await ask('/api/openapi-reading', { address: 'http://169.254.169.254/' }))).toMatchObject({
        code: 'not allowed',
      });
      expect((await ask('/api/openapi-reading', { document, address: 'http://x' })).statusCode).toBe(400);
    },
  );

  test.each<[string, () => object]>([
    ['/api/database-tables', () => ({ description: odata(), credential })],
    ['/api/query-preview', () => ({ description: http(), sql: 'select 1' })],
    ['/api/entity-sets', () => ({ description: sql(), credential })],
    ['/api/units', () => ({ description: files() })],
    ['/api/folder-files', () => ({ description: http() })],
    ['/api/file-preview', () => ({ description: sql(), path: 'x', object: fileObject })],
  ])('%s is not for another kind of system, nor with the credential of one that there is not', async (url, payload) => {
    expect((await ask(url, payload())).statusCode).toBe(404);
    expect((await ask(url, { ...payload(), system: 'nobody' })).statusCode).toBe(404);
  });

  test('a description with something that is no part of one is refused with its place', async () => {
    const answer = await ask('/api/system-test', { description: { ...http(), surprise: true } });
    expect([answer.statusCode, problem(answer).says]).toEqual([400, expect.stringContaining('surprise')]);
    const long = await ask('/api/query-preview', { description: sql(), credential, sql: 'x'.repeat(20_001) });
    expect(long.statusCode).toBe(400);
  });
});

describe('a system that is connected', () => {
  const connect = async (description: object, more: object = {}) =>
    ((await ask('/api/systems', { description, pennant, credential, ...more })).json() as { system: string }).system;
  const view = async (id: string) =>
    (await api.as('viewer', 'GET', `/api/systems/${id}`)).json() as Record<string, never> & {
      objects: { name: string; may: string[] }[];
      revision: number;
    };

  test('says of each object what may be done with it, whatever its kind', async () => {
    const object = {
      key: 'id',
      list: { path: '/x', pageSize: { parameter: 'n', value: 1 }, paging: { kind: 'link header' } },
      read: { path: '/x/{key}' },
    };
    const all = {
      read: object,
      everything: {
        ...object,
        create: { method: 'POST', path: '/x' },
        update: { method: 'PATCH', path: '/x/{key}', ifMatch: true },
        remove: { path: '/x/{key}', ifMatch: true },
        archive: { field: 'state', value: 'closed' },
        createField: { method: 'POST', path: '/f', name: 'n', type: 't', types: { text: 'T' } },
      },
    };
    const may = async (description: object) =>
      Object.fromEntries(
        (await view(await connect(description))).objects.map(({ name, may: these }) => [name, these.join(' ')]),
      );
    expect(await may({ ...http(), objects: all })).toEqual({
      read: 'read',
      everything: 'read create update archive delete add fields',
    });
    const table = { source: { kind: 'table', table: 't' }, key: 'id' };
    expect(
      await may({
        ...sql(),
        objects: {
          a: table,
          b: { ...table, mayWrite: true },
          c: { ...table, mayWrite: true, mayDelete: true },
          d: { source: { kind: 'query', sql: 'select 1' }, key: 'id', mayWrite: true },
        },
      }),
    ).toEqual({
      a: 'read',
      b: 'read create update',
      c: 'read create update delete',
      d: 'read',
    });
    expect(
      await may({
        ...odata(),
        objects: {
          a: { entitySet: 'A', key: 'K', mayUpdate: true },
          b: { entitySet: 'B', key: 'K', mayCreate: true, mayDelete: true },
        },
      }),
    ).toEqual({
      a: 'read update',
      b: 'read create delete',
    });
    const file = { path: 'x.csv', format: 'csv', key: 'id' };
    expect(
      await may(
        files({
          objects: {
            a: file,
            b: { ...file, path: 'b-*.csv', holds: 'deliveries' },
            c: { ...file, path: 'c-*.csv' },
            d: { ...file, path: 'd.xlsx', format: 'xlsx' },
          },
        }),
      ),
    ).toEqual({
      a: 'read create update delete',
      b: 'read',
      c: 'read',
      d: 'read create update',
    });
  });

  test('shows its calls and its budget; one that is not called over HTTP shows none', async () => {
    const id = await connect({
      ...odata(),
      budget: { perDay: 5, perSecond: 100 },
      objects: { staff: { entitySet: 'Staff', key: 'StaffNo' } },
    });
    expect((await view(id)).calls).toEqual({ today: 0, perDay: 5, perSecond: 100, atOnce: null, restUntil: null });
    await api.as('operator', 'POST', `/api/systems/${id}/probe`, {});
    const { today } = (await view(id)).calls as unknown as { today: number };
    expect(today).toBeGreaterThanOrEqual(2);
    // What is used up is said where it is met.
    for (let call = 0; call < 5; call += 1) await api.as('operator', 'POST', `/api/systems/${id}/probe`, {});
    expect((await view(id)).probe).toMatchObject({
      ok: false,
      steps: expect.arrayContaining([
        expect.objectContaining({ says: expect.stringContaining('the 5 calls a day') as unknown }),
      ]) as unknown,
    });
    expect((await view(await connect(files()))).calls).toBeNull();
  });

  test('a field is added there, once, of a type that it has, and by an administrator only', async () => {
    const rows = {
      key: 'row',
      list: {
        path: '/v2/boards/installations/rows',
        items: 'rows',
        pageSize: { parameter: 'size', value: 50 },
        paging: { kind: 'page number', parameter: 'page' },
      },
      read: { path: '/v2/boards/installations/rows/{key}', item: 'row' },
    };
    const createField = {
      method: 'POST',
      path: '/v2/boards/installations/columns',
      name: 'title',
      type: 'type',
      types: { text: 'text', date: 'date' },
      answer: 'column.id',
      fieldsUnder: 'cells',
    };
    const id = await connect(
      { ...http(), objects: { rows: { ...rows, createField }, plain: rows } },
      { credential: { id: 'x', secret } },
    );
    const add = (object: string, name: string, type: string) =>
      ask(`/api/systems/${id}/objects/${object}/fields`, { name, type });
    expect((await add('rows', 'Glass area', 'text')).json()).toEqual({ field: 'cells.glass_area' });
    expect(problem(await add('rows', 'Glass area', 'text')).says).toContain('there is a column "glass_area" already');
    expect(problem(await add('rows', 'Sum', 'number'))).toMatchObject({
      code: 'not possible',
      advice: 'Choose text, date.',
    });
    expect((await add('rows', '  ', 'text')).statusCode).toBe(400);
    expect((await add('plain', 'X', 'text')).statusCode).toBe(404);
    expect(
      (await api.as('editor', 'POST', `/api/systems/${id}/objects/rows/fields`, { name: 'X', type: 'text' }))
        .statusCode,
    ).toBe(403);
    expect((await api.as('viewer', 'GET', `/api/systems/${id}/objects/rows`)).json()).toMatchObject({
      newFieldTypes: ['text', 'date'],
    });
    const audit = (await installation.parts.data.query(`select detail from audit where action = 'field added'`)) as {
      detail: object;
    }[];
    expect(audit).toEqual([{ detail: { system: id, object: 'rows', field: 'cells.glass_area' } }]);
  });

  test('a consent leads only back to here, and only where one is needed', async () => {
    const at = 'https://id.example';
    const signIn = {
      kind: 'authorization code',
      authorizationUrl: `${at}/authorize?tenant=7`,
      tokenUrl: `${at}/token`,
      scope: 'a offline_access',
    };
    const id = await connect(http({ signIn }));
    const begin = (system: string, callback: unknown) => ask(`/api/systems/${system}/consent`, { callback });
    const here = `${api.address}/consent`;
    const { url } = (await begin(id, here)).json() as { url: string };
    expect(Object.fromEntries(new URL(url).searchParams)).toEqual({
      tenant: '7',
      client_id: erpRole,
      redirect_uri: here,
      response_type: 'code',
      scope: 'a offline_access',
      prompt: 'consent',
      code_challenge_method: 'S256',
      code_challenge: expect.stringMatching(/^[\w-]{43}$/) as unknown,
      state: expect.stringMatching(/^[\w-]{20,}$/) as unknown,
    });
    for (const callback of ['https://evil.example/consent', `${api.address}/systems`, 'javascript:alert(1)', 7])
      expect([callback, (await begin(id, callback)).statusCode]).toEqual([
        callback,
        typeof callback === 'string' && callback.startsWith('http') ? 422 : 400,
      ]);
    expect((await begin('marketRow', here)).statusCode).toBe(404);
    const without = await connect(http({ signIn }), { credential: undefined });
    expect(problem(await begin(without, here))).toMatchObject({ code: 'secret needed' });
    expect(problem(await ask('/api/consents', { answer: 'code=x&state=never-begun' }))).toMatchObject({
      code: 'not asked for',
    });
    expect((await view(id)).consent).toEqual({ by: null, at: null, given: false, granted: null, endsAt: null });
  });

  test('a secret is withdrawn: nothing of it is kept, what would use it says so, another can be given', async () => {
    const debtors = { source: { kind: 'table', table: 'debtor' }, key: 'debtor_no' };
    const id = await connect({ ...sql(), objects: { debtors } });
    const lacksSecret = async () =>
      (await ask(`/api/systems/${id}/probe`, {})).body.includes('no credential is kept for');
    expect(await lacksSecret()).toBe(false);
    const withdraw = () => api.as('administrator', 'DELETE', `/api/systems/${id}/credential`);
    expect((await api.as('editor', 'DELETE', `/api/systems/${id}/credential`)).statusCode).toBe(403);
    expect((await withdraw()).statusCode).toBe(204);
    expect((await view(id)).signsInAs).toBeNull();
    const kept = (await installation.parts.data.query(
      'select credential, credential_id, tokens from system where id = $1',
      [id],
    )) as unknown[];
    expect(kept).toEqual([{ credential: null, credential_id: null, tokens: null }]);
    expect(await lacksSecret()).toBe(true);
    const audit = (await installation.parts.data.query(
      `select action from audit where detail->>'system' = $1 order by id desc limit 1`,
      [id],
    )) as unknown[];
    expect(audit).toEqual([{ action: 'credential withdrawn' }]);
    expect((await api.as('administrator', 'PUT', `/api/systems/${id}/credential`, credential)).statusCode).toBe(204);
    expect(await lacksSecret()).toBe(false);
    expect((await api.as('administrator', 'DELETE', '/api/systems/nowhere/credential')).statusCode).toBe(404);
  });

  test('a change of where tokens come from needs the secret again, and ends the consent', async () => {
    const signIn = (at: string) => ({
      kind: 'authorization code',
      authorizationUrl: `${at}/authorize`,
      tokenUrl: `${at}/token`,
    });
    const id = await connect(http({ signIn: signIn('https://id.example') }));
    const change = async (to: object, more: object = {}) =>
      api.as('administrator', 'PUT', `/api/systems/${id}`, {
        description: to,
        pennant,
        revision: (await view(id)).revision,
        ...more,
      });
    await installation.parts.data.query(
      `update system set tokens = '\\x00', consent_by = 'somebody', consent_at = now(), consent_scope = 'a'
        where id = $1`,
      [id],
    );
    // What cannot be opened with the key of this installation keeps nobody from seeing the system.
    expect((await view(id)).consent).toMatchObject({ given: true, by: 'somebody', granted: 'a' });
    expect(problem(await change(http({ signIn: signIn('https://elsewhere.example') })))).toMatchObject({
      code: 'secret needed',
    });
    expect((await change(http({ signIn: signIn('https://elsewhere.example') }), { credential })).statusCode).toBe(200);
    expect((await view(id)).consent).toMatchObject({ given: false, by: null });
  });

  test('deliveries come to known subscriptions only, in any form, and of a bearable size', async () => {
    const post = (path: string, body: string | ArrayBuffer, type = 'application/json') =>
      fetch(`${api.address}${path}`, { method: 'POST', body, headers: { 'content-type': type } });
    expect((await post('/hooks/not-an-id', '{}')).status).toBe(404);
    expect((await post('/hooks/00000000-0000-7000-8000-000000000000', '{}')).status).toBe(404);
    await installation.parts.inbox.subscribe(
      (await installation.parts.systems.find('fernhill')) as never,
      'accounts',
      api.address,
    );
    const [{ address } = { address: '' }] = await installation.parts.inbox.of('fernhill');
    const path = new URL(address).pathname;
    expect((await post(path, 'not JSON at all', 'text/plain')).status).toBe(401);
    expect((await post(path, '{"broken":')).status).toBe(401);
    expect((await post(path, new ArrayBuffer(2 * 1024 * 1024))).status).toBe(413);
    const [row] = await installation.parts.inbox.of('fernhill');
    expect(row).toMatchObject({ received: 0, refused: 2 });
    expect((await api.as('operator', 'GET', `/api/subscriptions/${row?.id ?? ''}/deliveries`)).json()).toEqual({
      deliveries: [],
    });
    expect((await api.as('viewer', 'GET', `/api/subscriptions/${row?.id ?? ''}/deliveries`)).statusCode).toBe(403);
    expect((await ask('/api/systems/fernhill/objects/nothing/subscription', {})).statusCode).toBe(404);
    expect((await ask('/api/systems/marketRow/objects/shoppers/subscription', {})).statusCode).toBe(204);
    expect(
      (await api.as('administrator', 'DELETE', '/api/systems/marketRow/objects/shoppers/subscription')).statusCode,
    ).toBe(204);
  });
});
