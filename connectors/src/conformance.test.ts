/**
 * What every connector must do, on real peers: stand-ins and a public REST server package over real HTTP, a real
 * PostgreSQL, real files.
 */
import { type ChildProcess, spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { setTimeout as wait } from 'node:timers/promises';
import { pathToFileURL } from 'node:url';
import ExcelJS from 'exceljs';
import type { Pool } from 'pg';
import {
  filesSystemSchema,
  type HttpSystem,
  httpSystemSchema,
  odataSystemSchema,
  sqlSystemSchema,
} from '@anchor-knot/contracts';
import { type Raw, readPath, recordKey, type SourceRecord } from '@anchor-knot/core';
import {
  boardsServer,
  crmServer,
  deskServer,
  erpRole,
  erpServer,
  type Faults,
  generateBusiness,
  generateCustomers,
  generateWork,
  openErpDatabase,
  openPool,
  shopServer,
} from '@anchor-knot/standins';
import { clusterFolder, startCluster } from '../../server/src/start/cluster.js';
import { AddressFilter } from './addressFilter.js';
import type { Clock, Connector } from './connector.js';
import { FilesConnector } from './files/filesConnector.js';
import { HttpConnector } from './http/httpConnector.js';
import { ODataConnector } from './odata/odataConnector.js';
import { openConnector } from './open.js';
import { SqlConnector } from './sql/sqlConnector.js';

const addresses = new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] });
const clock: Clock = {
  now: () => Date.now(),
  sleep: async (milliseconds) => void (await wait(Math.min(milliseconds, 20))),
};
const credential = { id: 'id', secret: 's&ü:%' };
const systems = JSON.parse(readFileSync(join(import.meta.dirname, '../../server/demo/systems.json'), 'utf8')) as Record<
  string,
  object
>;
const data = generateCustomers({ seed: 7, inBoth: 30, onlyCrm: 5, onlyShop: 5, mess: true });
const closing: (() => Promise<unknown>)[] = [];
afterAll(async () => {
  for (const close of closing.toReversed()) await close();
});

function http(system: HttpSystem, object: string, secret = credential.secret): HttpConnector {
  const connector = new HttpConnector(system, object, {
    clock,
    random: () => 0,
    addresses,
    credential: { ...credential, secret },
  });
  closing.push(() => connector.close());
  return connector;
}

async function crm(faults: Partial<Faults> = {}): Promise<{ address: string; description: HttpSystem }> {
  const app = await crmServer({
    seed: data.accounts,
    clientId: credential.id,
    clientSecret: credential.secret,
    faults,
  });
  closing.push(() => app.close());
  const address = await app.listen({ host: '127.0.0.1', port: 0 });
  const description = httpSystemSchema.parse({ ...systems.fernhill, address, timeoutMs: 3000 });
  (description.objects.accounts as { list: { pageSize: { value: number } } }).list.pageSize.value = 10;
  return { address, description };
}

async function shop(faults: Partial<Faults> = {}): Promise<{ address: string; description: HttpSystem }> {
  const app = await shopServer({ seed: data.shoppers, key: credential.id, secret: credential.secret, faults });
  closing.push(() => app.close());
  const address = await app.listen({ host: '127.0.0.1', port: 0 });
  const description = httpSystemSchema.parse({ ...systems.marketRow, address, timeoutMs: 3000 });
  (description.objects.shoppers as { list: { pageSize: { value: number } } }).list.pageSize.value = 10;
  return { address, description };
}

const work = generateWork(data, { seed: 7, tickets: 40, projects: 8, tasksEach: 5 });
async function stoodIn(
  system: string,
  app: Awaited<ReturnType<typeof deskServer>>,
  object: string,
): Promise<Connector> {
  closing.push(() => app.close());
  const address = await app.listen({ host: '127.0.0.1', port: 0 });
  const description = httpSystemSchema.parse({ ...systems[system], address, timeoutMs: 3000 });
  (description.objects[object] as { list: { pageSize: { value: number } } }).list.pageSize.value = 10;
  return http(description, object);
}

/**
 * A REST server that we did not write: the json-server package, with its data in memory. With a file, which it watches
 * for
 * changes of others, it sometimes takes an older state of its own for news.
 */
async function restServer(): Promise<HttpSystem> {
  const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-rest-'));
  const port = await new Promise<number>((done) => {
    const probe = createServer().listen(0, '127.0.0.1', () => {
      const { port: free } = probe.address() as { port: number };
      probe.close(() => done(free));
    });
  });
  const packages = dirname(dirname(createRequire(import.meta.url).resolve('json-server/package.json')));
  const file = (path: string): string => JSON.stringify(pathToFileURL(join(packages, path)).href);
  const people = peopleWithVisits;
  writeFileSync(
    join(folder, 'serve.mjs'),
    `import { createApp } from ${file('json-server/lib/app.js')};
     import { Low, Memory } from ${file('lowdb/lib/index.js')};
     createApp(new Low(new Memory(), ${JSON.stringify({ people })})).listen(${port}, '127.0.0.1');`,
  );
  const child: ChildProcess = spawn(process.execPath, [join(folder, 'serve.mjs')], { stdio: 'ignore' });
  closing.push(async () => {
    child.kill();
    rmSync(folder, { recursive: true, force: true });
  });
  const address = `http://127.0.0.1:${port}`;
  for (
    let tries = 0;
    tries < 100 &&
    !(await fetch(`${address}/people`).then(
      (answer) => answer.ok,
      () => false,
    ));
    tries += 1
  )
    await wait(100);
  return httpSystemSchema.parse({
    kind: 'http',
    name: 'REST server',
    address,
    signIn: { kind: 'none' },
    objects: {
      people: {
        key: 'id',
        list: {
          path: '/people',
          items: 'data',
          pageSize: { parameter: '_per_page', value: 10 },
          paging: { kind: 'cursor', parameter: '_page', first: '1', next: 'next' },
        },
        read: { path: '/people/{key}' },
        search: { name: 'name' },
        create: { method: 'POST', path: '/people' },
        update: { method: 'PATCH', path: '/people/{key}', ifMatch: false },
        remove: { path: '/people/{key}', ifMatch: false },
      },
    },
    rows: { visits: { of: 'people', list: 'visits', key: ['code'] } },
  });
}

/** Each has some rows of its own, others none. */
const peopleWithVisits = Array.from({ length: 35 }, (_, index) => ({
  id: `p${index}`,
  name: `Person ${index}`,
  visits: Array.from({ length: index % 4 }, (_, visit) => ({ code: `v${visit}`, name: `Visit ${visit}` })),
}));
/** A row that is made in the list of one of them. */
const newVisit: [string, Raw][] = [
  ['parent', 'p3'],
  ['code', 'new/#%&'],
  ['name', 'New "Ltd" 🌱'],
];

async function rowsOfRestServer(): Promise<Connector> {
  const connector = openConnector(await restServer(), 'visits', {
    clock,
    random: () => 0,
    addresses,
    credential,
    folder: '/',
  });
  closing.push(() => connector.close());
  return connector;
}

function rowsOfFile(): Connector {
  const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-files-'));
  closing.push(async () => rmSync(folder, { recursive: true, force: true }));
  writeFileSync(join(folder, 'people'), peopleWithVisits.map((row) => `${JSON.stringify(row)}\n`).join(''));
  const system = filesSystemSchema.parse({
    kind: 'files',
    name: 'Files',
    folder,
    objects: { people: { path: 'people', format: 'jsonl', key: 'id' } },
    rows: { visits: { of: 'people', list: 'visits', key: ['code'] } },
  });
  return openConnector(system, 'visits', { clock, random: () => 0, addresses, credential, folder: '/' });
}

async function files(format: 'csv' | 'jsonl' | 'xlsx'): Promise<Connector> {
  const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-files-'));
  closing.push(async () => rmSync(folder, { recursive: true, force: true }));
  const rows = Array.from({ length: 35 }, (_, index) => ({ id: `p${index}`, name: `Person ${index}` }));
  if (format === 'xlsx') {
    const workbook = new ExcelJS.Workbook();
    workbook.addWorksheet('Notes').addRow(['not this one']);
    workbook.addWorksheet('People').addRows([['id', 'name'], ...rows.map(({ id, name }) => [id, name])]);
    await workbook.xlsx.writeFile(join(folder, 'people'));
  } else {
    const lines =
      format === 'csv'
        ? ['id,name\n', ...rows.map(({ id, name }) => `${id},"${name}"\n`)]
        : rows.map((row) => `${JSON.stringify(row)}\n`);
    writeFileSync(join(folder, 'people'), lines.join(''));
  }
  const object = { path: 'people', format, key: 'id', ...(format === 'xlsx' ? { sheet: 'People' } : {}) };
  return new FilesConnector(
    filesSystemSchema.parse({ kind: 'files', name: 'Files', folder, objects: { people: object } }),
    'people',
    { clock, folder: '/' },
  );
}

/** The ERP’s database, and what is in front of it, once for all that need it. */
let erp: Promise<{ pool: Pool; url: URL; address: string }> | undefined;
async function erpStandIn(): Promise<{ pool: Pool; url: URL; address: string }> {
  return (erp ??= (async () => {
    const folder = clusterFolder(mkdtempSync(join(tmpdir(), 'anchor-knot-erp-')), `conformance-${process.pid}`);
    const cluster = await startCluster(folder, { throwAway: true });
    closing.push(async () => {
      cluster.stop();
      rmSync(folder, { recursive: true, force: true });
    });
    const pool = await openErpDatabase(cluster.url('postgres'), credential.secret, () =>
      generateBusiness(data, { seed: 7, documents: 60, mess: true }),
    );
    await pool.query(
      `create view debtor_view as select * from debtor with check option;
       grant delete on debtor to ${erpRole}; grant all on debtor_view to ${erpRole}`,
    );
    await pool.query(`insert into debtor (name) select 'Debtor ' || n from generate_series(1, 15) n`);
    const app = await erpServer({ pool, secret: credential.secret });
    closing.push(() => app.close());
    return { pool, url: new URL(cluster.url('postgres')), address: await app.listen({ host: '127.0.0.1', port: 0 }) };
  })());
}

async function erpOData(batchSize: number, faults: Partial<Faults> = {}): Promise<Connector> {
  const { pool, address: usual } = await erpStandIn();
  let address = usual;
  if (Object.keys(faults).length > 0) {
    // Another front of the same database, so that the faults of one test are not those of another.
    const app = await erpServer({ pool: openPool(pool.options), secret: credential.secret, faults });
    closing.push(() => app.close());
    address = await app.listen({ host: '127.0.0.1', port: 0 });
  }
  const object = {
    entitySet: 'Debtors',
    key: 'DebtorNo',
    modifiedAt: 'ChangedAt',
    search: ['Mail'],
    mayCreate: true,
    mayUpdate: true,
    mayDelete: true,
  };
  const description = odataSystemSchema.parse({
    kind: 'odata',
    name: 'Coldharbour ERP',
    address: `${address}/odata`,
    signIn: { kind: 'key and secret' },
    pageSize: 10,
    batchSize,
    objects: { debtors: object },
  });
  const connector = new ODataConnector(description, 'debtors', {
    clock,
    random: () => 0,
    addresses,
    credential: { ...credential, id: erpRole },
  });
  closing.push(() => connector.close());
  return connector;
}

async function erpSql(isView = false): Promise<Connector> {
  const { url } = await erpStandIn();
  const object = {
    source: { kind: 'table', table: isView ? 'debtor_view' : 'debtor', ...(isView ? { isView } : {}) },
    key: 'debtor_no',
    modifiedAt: 'changed_at',
    search: ['mail'],
    mayWrite: true,
    mayDelete: true,
  };
  const description = sqlSystemSchema.parse({
    kind: 'sql',
    name: 'Coldharbour ERP',
    host: url.hostname,
    port: Number(url.port),
    database: 'coldharbour',
    tls: 'off',
    objects: { debtors: object },
  });
  const connector = new SqlConnector(description, 'debtors', {
    clock,
    addresses,
    credential: { ...credential, id: erpRole },
  });
  closing.push(() => connector.close());
  return connector;
}

async function listing(
  connector: Connector,
  onPage: (page: number) => Promise<unknown> = async () => undefined,
  changedSince?: number,
): Promise<Map<string, SourceRecord>> {
  const found = new Map<string, SourceRecord>();
  let count = 0;
  for await (const page of connector.read({ changedSince })) {
    for (const record of page.records) found.set(record.key, record);
    await onPage((count += 1));
  }
  return found;
}

interface Case {
  readonly name: string;
  readonly make: () => Promise<Connector>;
  readonly field: string;
  readonly create: [string, Raw][];
  readonly searchable?: string;
}
const cases: readonly Case[] = [
  {
    name: 'Fernhill CRM',
    make: async () => http((await crm()).description, 'accounts'),
    field: 'address.street',
    create: [
      ['name', 'New "Ltd" 🌱'],
      ['contact.email', 'new@x.example'],
    ],
    searchable: 'contact.email',
  },
  {
    name: 'Market Row',
    make: async () => http((await shop()).description, 'shoppers'),
    field: 'address_line',
    create: [
      ['company_name', 'New "Ltd" 🌱'],
      ['mail', 'new@x.example'],
    ],
    searchable: 'mail',
  },
  {
    name: 'Bellpull Desk',
    make: async () => stoodIn('bellpull', await deskServer({ ...work, token: credential.secret }), 'tickets'),
    field: 'subject',
    create: [
      ['subject', 'New "Ltd" 🌱'],
      ['priority', 2],
    ],
  },
  {
    name: 'Pegline Boards',
    make: async () => stoodIn('pegline', await boardsServer({ rows: work.rows, key: credential.secret }), 'tasks'),
    field: 'cells.title',
    create: [
      ['cells.title', 'New "Ltd" 🌱'],
      ['parent', work.rows[0]?.id ?? ''],
    ],
  },
  {
    name: 'a REST server package',
    make: async () => http(await restServer(), 'people'),
    field: 'name',
    create: [['name', 'New "Ltd" 🌱']],
  },
  { name: 'rows in records of a REST server package', make: rowsOfRestServer, field: 'name', create: newVisit },
  { name: 'rows in a JSON Lines file', make: async () => rowsOfFile(), field: 'name', create: newVisit },
  ...[1, 50].map((batchSize) => ({
    name: `Coldharbour ERP, OData${batchSize > 1 ? ' in batches' : ''}`,
    make: () => erpOData(batchSize),
    field: 'Street',
    create: [
      ['Name', 'New "Ltd" 🌱'],
      ['Mail', `new${batchSize}@x.example`],
    ] as [string, Raw][],
    searchable: 'Mail',
  })),
  {
    name: 'Coldharbour ERP, SQL',
    make: () => erpSql(),
    field: 'street',
    create: [
      ['name', 'New "Ltd" 🌱'],
      ['mail', 'newsql@x.example'],
    ],
    searchable: 'mail',
  },
  {
    name: 'a view of Coldharbour ERP, SQL',
    make: () => erpSql(true),
    field: 'street',
    create: [
      ['name', 'New "Ltd" 🌱'],
      ['mail', 'newview@x.example'],
    ],
    searchable: 'mail',
  },
  { name: 'a CSV file', make: async () => files('csv'), field: 'name', create: [['name', 'New "Ltd"\n🌱']] },
  { name: 'a JSON Lines file', make: async () => files('jsonl'), field: 'name', create: [['name', 'New "Ltd"\n🌱']] },
  { name: 'a workbook', make: async () => files('xlsx'), field: 'name', create: [['name', 'New "Ltd"\n🌱']] },
];

describe.each(cases)('the connector of $name', ({ make, field, create, searchable }) => {
  let connector: Connector;
  beforeAll(async () => {
    connector = await make();
  });

  test('lists every record that was there throughout, while records are added and changed', async () => {
    const before = await listing(connector);
    expect(before.size).toBeGreaterThanOrEqual(35);
    const keys = [...before.keys()];
    const during = await listing(connector, async (page) => {
      await connector.write([
        {
          kind: 'create',
          idempotencyKey: `during${page}`,
          fields: new Map(
            create.map(([path, value]) => [path, /mail/i.test(path) ? `during${page}@x.example` : value]),
          ),
        },
      ]);
      await connector.write([
        {
          kind: 'update',
          key: recordKey(keys[page] as string),
          version: (await connector.readOne(recordKey(keys[page] as string)))?.version,
          fields: new Map([[field, `changed ${page}`]]),
        },
      ]);
    });
    expect(keys.filter((key) => !during.has(key))).toEqual([]);
  });

  test('creates, reads back, finds, updates, and says what is not there', async () => {
    const [created] = await connector.write([{ kind: 'create', idempotencyKey: 'k1', fields: new Map(create) }]);
    if (created?.kind !== 'written') throw new Error(JSON.stringify(created));
    const record = await connector.readOne(created.key);
    for (const [path, value] of create) expect(readPath(record?.fields ?? {}, path)).toBe(value);
    const wanted = create.find(([path]) => path === searchable)?.[1];
    if (searchable)
      expect((await connector.search(searchable, String(wanted))).map(({ key }) => key)).toEqual([created.key]);
    const [updated] = await connector.write([
      { kind: 'update', key: created.key, version: record?.version, fields: new Map([[field, 'somewhere else']]) },
    ]);
    expect(updated).toMatchObject({ kind: 'written', key: created.key });
    expect(readPath((await connector.readOne(created.key))?.fields ?? {}, field)).toBe('somewhere else');
    expect(await connector.readOne(recordKey('no/such key'))).toBeUndefined();
    expect(
      await connector.write([
        { kind: 'update', key: recordKey('nobody'), version: undefined, fields: new Map([[field, 'x']]) },
      ]),
    ).toEqual([{ kind: 'gone' }]);
  });

  test('says of each write of several how it ended', async () => {
    const [one] = await connector.write([
      {
        kind: 'create',
        idempotencyKey: 'k3',
        fields: new Map(create.map(([path, value]) => [path, /mail/i.test(path) ? 'several@x.example' : value])),
      },
    ]);
    if (one?.kind !== 'written') throw new Error(JSON.stringify(one));
    const outcomes = await connector.write([
      { kind: 'update', key: recordKey('nobody'), version: undefined, fields: new Map([[field, 'x']]) },
      { kind: 'update', key: one.key, version: undefined, fields: new Map([['no such field', { not: 'taken' }]]) },
      { kind: 'update', key: one.key, version: undefined, fields: new Map([[field, 'the third']]) },
    ]);
    expect(outcomes.map(({ kind }) => kind)).toEqual(['gone', expect.stringMatching(/refused|written/), 'written']);
    expect(readPath((await connector.readOne(one.key))?.fields ?? {}, field)).toBe('the third');
  });

  test('deletes and archives where it declares so, and only what was read', async () => {
    const [made] = await connector.write([
      {
        kind: 'create',
        idempotencyKey: 'k4',
        fields: new Map(create.map(([path, value]) => [path, /mail/i.test(path) ? 'away@x.example' : value])),
      },
    ]);
    if (made?.kind !== 'written') throw new Error(JSON.stringify(made));
    const { archive, delete: may, conditionalUpdate } = connector.capabilities;
    const version = (await connector.readOne(made.key))?.version;
    const [archived] = await connector.write([{ kind: 'archive', key: made.key, version }]);
    expect(archived?.kind).toBe(archive ? 'written' : 'refused');
    expect(await connector.readOne(made.key)).toBeDefined();
    await connector.write([
      { kind: 'update', key: made.key, version: undefined, fields: new Map([[field, 'changed meanwhile']]) },
    ]);
    if (may && conditionalUpdate)
      expect(await connector.write([{ kind: 'delete', key: made.key, version }])).toEqual([{ kind: 'raced' }]);
    expect((await connector.write([{ kind: 'delete', key: made.key, version: undefined }]))[0]?.kind).toBe(
      may ? 'written' : 'refused',
    );
    expect((await connector.readOne(made.key)) === undefined).toBe(may);
    if (may)
      expect(await connector.write([{ kind: 'delete', key: made.key, version: undefined }])).toEqual([
        { kind: 'gone' },
      ]);
  });

  test(
    'does what it declares: conditional updates lose against others, repeated creations ' + 'make one record',
    async () => {
      const [created] = await connector.write([
        {
          kind: 'create',
          idempotencyKey: 'k2',
          fields: new Map(create.map(([path, value]) => [path, /mail/i.test(path) ? 'twice@x.example' : value])),
        },
      ]);
      if (created?.kind !== 'written') throw new Error(JSON.stringify(created));
      const before = await connector.readOne(created.key);
      const update = () =>
        connector.write([
          { kind: 'update', key: created.key, version: before?.version, fields: new Map([[field, 'mine']]) },
        ]);
      await connector.write([
        { kind: 'update', key: created.key, version: before?.version, fields: new Map([[field, 'theirs']]) },
      ]);
      if (connector.capabilities.conditionalUpdate) expect(await update()).toEqual([{ kind: 'raced' }]);
      if (connector.capabilities.idempotentCreate)
        expect(
          await connector.write([{ kind: 'create', idempotencyKey: 'k2', fields: new Map(create) }]),
        ).toMatchObject([{ kind: 'written', key: created.key }]);
    },
  );
});

test.each<[string, () => Promise<Connector>]>([
  ['Fernhill CRM', async () => http((await crm()).description, 'accounts')],
  ['Coldharbour ERP, OData', () => erpOData(1)],
  ['Coldharbour ERP, SQL', () => erpSql()],
])('%s: changes at the edge of the cursor are found, equal times included', async (_, make) => {
  const connector = await make();
  const all = [...(await listing(connector)).values()];
  const edge = all[3]?.modifiedAt as number;
  const since = await listing(connector, undefined, edge);
  expect([...since.keys()].sort()).toEqual(
    all
      .filter(({ modifiedAt }) => (modifiedAt as number) >= edge)
      .map(({ key }) => key)
      .sort(),
  );
});

/** Each stand-in that is called over HTTP, with faults of its own. */
const faulty: [string, (faults: Partial<Faults>) => Promise<Connector>, string, [string, Raw][]][] = [
  ['Fernhill CRM', async (faults) => http((await crm(faults)).description, 'accounts'), 'name', [['name', 'X']]],
  [
    'Market Row',
    async (faults) => http((await shop({ callsPerSecond: 0, ...faults })).description, 'shoppers'),
    'city',
    [['mail', 'x@x.example']],
  ],
  [
    'Bellpull Desk',
    async (faults) => stoodIn('bellpull', await deskServer({ ...work, token: credential.secret, faults }), 'tickets'),
    'subject',
    [['subject', 'X']],
  ],
  [
    'Pegline Boards',
    async (faults) =>
      stoodIn(
        'pegline',
        await boardsServer({ rows: work.rows, key: credential.secret, faults: { callsPerSecond: 0, ...faults } }),
        'tasks',
      ),
    'cells.title',
    [['cells.title', 'X']],
  ],
  ['Coldharbour ERP, OData', (faults) => erpOData(50, faults), 'Street', [['Name', 'X']]],
];

describe.each(faulty)('%s, when it does wrong', (_, make, field, create) => {
  const told = async (connector: Connector): Promise<string> =>
    listing(connector).then(
      () => 'read',
      (error: Error & { code?: string }) => error.code ?? error.message,
    );

  test('failing calls are tried again; broken pages and a refused sign-in are named', async () => {
    expect(await told(await make({ errorRate: 0.25 }))).toBe('read');
    expect(await told(await make({ brokenPages: true }))).toBe('answer not understood');
    expect(await told(await make({ refuseSignIn: true }))).toBe('sign-in refused');
  });

  test('of a write whose connection breaks nobody knows, whichever it was; and it is made once at most', async () => {
    const connector = await make({ dropAfterWrite: 1 });
    const before = await listing(connector);
    const [key] = before.keys();
    const outcomes = await connector.write([
      { kind: 'create', idempotencyKey: 'once', fields: new Map(create) },
      {
        kind: 'update',
        key: recordKey(key ?? ''),
        version: before.get(key ?? '')?.version,
        fields: new Map([[field, 'changed']]),
      },
    ]);
    expect(outcomes.map(({ kind }) => kind)).toEqual(['unknown', 'unknown']);
    expect((await listing(connector)).size).toBeLessThanOrEqual(before.size + 1);
  });
});

describe('when a system does wrong', () => {
  const readAll = (connector: Connector) =>
    listing(connector).then(
      () => 'read',
      (error: Error & { code?: string; advice?: string }) => `${error.code}: ${error.message} ${error.advice ?? ''}`,
    );

  test.each<[string, Partial<Faults>, RegExp]>([
    ['a rate limit is waited for', { callsPerSecond: 3 }, /^(read|too many calls)/],
    ['a broken page says so', { brokenPages: true }, /answer not understood: .*not JSON/],
    ['a refused sign-in says what to do', { refuseSignIn: true }, /sign-in refused: .*Check the client id/],
    ['failing calls are tried again', { errorRate: 0.3 }, /^read$/],
  ])('%s', async (_, faults, says) => {
    expect(await readAll(http((await crm(faults)).description, 'accounts'))).toMatch(says);
  });

  test('the wrong secret and a system that is down are told apart', async () => {
    const { description } = await shop();
    expect(await readAll(http(description, 'shoppers', 'wrong'))).toMatch(
      /sign-in refused: .*key or secret not accepted/,
    );
    expect(await readAll(http({ ...description, address: 'http://127.0.0.1:9' }, 'shoppers'))).toMatch(
      /unreachable: .*cannot be reached/,
    );
  });

  test('a write whose connection breaks is unknown, never repeated blindly', async () => {
    const { description, address } = await shop({ dropAfterWrite: 1 });
    const connector = http(description, 'shoppers');
    expect(
      await connector.write([
        {
          kind: 'create',
          idempotencyKey: 'k',
          fields: new Map([
            ['mail', 'dropped@x.example'],
            ['external_ref', 'ref-1'],
          ]),
        },
      ]),
    ).toMatchObject([{ kind: 'unknown' }]);
    await fetch(`${address}/faults.json`, {
      method: 'PUT',
      headers: { 'content-type': 'application/json' },
      body: '{"dropAfterWrite":0}',
    });
    expect(await connector.search('external_ref', 'ref-1')).toHaveLength(1);
  });

  test('a record that is refused says why, in the words of the system', async () => {
    const connector = http((await crm()).description, 'accounts');
    const [outcome] = await connector.write([
      {
        kind: 'create',
        idempotencyKey: 'k',
        fields: new Map<string, Raw>([
          ['name', 'X'],
          ['notes', 'n'.repeat(5000)],
          ['segment', 'Zoo'],
        ]),
      },
    ]);
    expect(outcome).toMatchObject({
      kind: 'refused',
      words: expect.stringMatching(/notes is too long.*segment/s) as unknown as string,
    });
  });

  test.each<[string, object, boolean]>([
    ['a cursor', { kind: 'cursor', parameter: 'after', next: 'next' }, false],
    ['numbered pages', { kind: 'page number', parameter: 'page' }, true],
    ['an offset', { kind: 'offset', parameter: 'from' }, true],
  ])(
    'when a record disappears while it is listed, a listing by %s may skip another; that one can still ' +
      'be read by its key',
    async (_, paging, skips) => {
      const rows = Array.from({ length: 30 }, (__, index) => ({ id: String(100 + index) }));
      const app = (await import('node:http')).createServer((request, response) => {
        const { pathname, searchParams: asked } = new URL(request.url ?? '', 'http://x');
        const answer = (status: number, body: object): unknown =>
          response.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(body));
        const known = rows.find(({ id }) => pathname === `/x/${id}`);
        if (pathname !== '/x') return answer(known ? 200 : 404, known ?? {});
        const after = asked.get('after');
        const from =
          after === null
            ? Number(asked.get('from') ?? (Number(asked.get('page') ?? 1) - 1) * 10)
            : rows.filter(({ id }) => id <= after).length;
        const data = rows.slice(from, from + 10);
        return answer(200, { data, next: data.length === 10 ? data[9]?.id : null });
      });
      await new Promise<void>((done) => app.listen(0, '127.0.0.1', done));
      closing.push(async () => app.close());
      const description = httpSystemSchema.parse({
        kind: 'http',
        name: 'Moving',
        address: `http://127.0.0.1:${(app.address() as { port: number }).port}`,
        signIn: { kind: 'none' },
        objects: {
          x: {
            key: 'id',
            list: { path: '/x', items: 'data', pageSize: { parameter: 'n', value: 10 }, paging },
            read: { path: '/x/{key}' },
          },
        },
      });
      const connector = http(description, 'x');
      const found = await listing(connector, async (page) => {
        // The second page is on its way already: the record goes before the third is asked for.
        if (page === 1) rows.splice(0, 1);
      });
      const missed = rows.filter(({ id }) => !found.has(id));
      expect(missed.length > 0).toBe(skips);
      // A run looks a missing record up before it calls it gone, and so notices that it was skipped.
      for (const { id } of missed) expect((await connector.readOne(recordKey(id)))?.key).toBe(id);
      expect(await connector.readOne(recordKey('100'))).toBeUndefined();
    },
  );

  test('pages that lead in a circle end', async () => {
    const app = (await import('node:http')).createServer((_, response) =>
      response.setHeader('content-type', 'application/json').end('{"data":[{"id":"1"}],"next":"same"}'),
    );
    await new Promise<void>((done) => app.listen(0, '127.0.0.1', done));
    closing.push(async () => app.close());
    const description = httpSystemSchema.parse({
      kind: 'http',
      name: 'Circle',
      address: `http://127.0.0.1:${(app.address() as { port: number }).port}`,
      signIn: { kind: 'none' },
      objects: {
        x: {
          key: 'id',
          list: {
            path: '/x',
            items: 'data',
            pageSize: { parameter: 'n', value: 1 },
            paging: { kind: 'cursor', parameter: 'c', next: 'next' },
          },
          read: { path: '/x/{key}' },
        },
      },
    });
    expect(await readAll(http(description, 'x'))).toMatch(/leads in a circle/);
  });
});

test('the OData face of Coldharbour ERP is understood by a client that we did not write', async () => {
  const { address } = await erpStandIn();
  const { o } = (await import('odata')) as unknown as {
    o: (
      root: string,
      init: object,
    ) => { get: (path: string) => { query: (options: object) => Promise<Record<string, unknown>[]> } };
  };
  const authorization = `Basic ${Buffer.from(`${erpRole}:${credential.secret}`).toString('base64')}`;
  const ask = (set: string, options: object) =>
    o(`${address}/odata/`, { headers: { authorization } }).get(set).query(options);
  const articles = await ask('Articles', {
    $filter: "Price gt 300 and startswith(Description,'Roof') or ArticleNo eq '1000'",
    $orderby: 'Price desc',
    $top: 3,
  });
  const prices = articles.map(({ Price }) => Number(Price));
  expect(articles).toHaveLength(3);
  expect(prices).toEqual([...prices].sort((one, other) => other - one));
  expect(
    articles.every(({ Description, ArticleNo }) => String(Description).startsWith('Roof') || ArticleNo === '1000'),
  ).toBe(true);
  await expect(ask('Articles', { $filter: 'Price add 1 gt 3' })).rejects.toBeDefined();
});
