/** The SQL connector on a real PostgreSQL, beside the ERP stand-in’s own tables and role. */
import { Pool } from 'pg';
import {
  AddressFilter,
  type Connector,
  listTables,
  previewQuery,
  probeSystem,
  SqlConnector,
  type SystemTrouble,
  type WriteOutcome,
} from '@anchor-knot/connectors';
import { type SqlObject, type SqlSystem, sqlSystemSchema } from '@anchor-knot/contracts';
import { type Raw, recordKey } from '@anchor-knot/core';
import { erpRole, generateBusiness, generateCustomers, openErpDatabase } from '@anchor-knot/standins';
import { TestDatabase } from '../testing/testDatabase.js';
import { systemClock } from '../worker/systemClock.js';

const password = 'a “password” with \' and "';
const addresses = new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] });
const dependencies = {
  clock: systemClock,
  random: () => 0,
  addresses,
  folder: '/',
  credential: { id: erpRole, secret: password },
};
const customers = generateCustomers({ seed: 5, inBoth: 30, onlyCrm: 10, onlyShop: 5, mess: true });
let database: TestDatabase;
let owner: Pool;
let system: SqlSystem;
const opened: Connector[] = [];

beforeAll(async () => {
  database = await TestDatabase.start();
  const { url } = await database.fresh();
  owner = await openErpDatabase(url, password, () =>
    generateBusiness(customers, { seed: 5, documents: 60, mess: true }),
  );
  const { hostname, port } = new URL(url);
  system = sqlSystemSchema.parse({
    kind: 'sql',
    name: 'Coldharbour ERP',
    host: hostname,
    port: Number(port),
    database: 'coldharbour',
    tls: 'off',
    objects: {},
  });
  await owner.query(`
    create table wide ("Key ""1""" bigint primary key, amount numeric, big bigint, flags text[], "order" jsonb,
      at timestamp, moment timestamptz, day date, note text);
    insert into wide values (12345678901234567890 % 9223372036854775807, 1.10, 9007199254740993,
      '{"a,b","c\\"d",NULL}', '{"n":1.50}', '2026-11-23 10:00:00.5', '2026-11-23 12:00:00+02', '2026-11-23', 'ü🌱');
    create table long (id int primary key, name text not null, changed_at timestamptz not null default '2026-01-01');
    insert into long select n, 'name ' || n from generate_series(1, 3500) n;
    grant all on wide, long to ${erpRole};
  `);
});
afterAll(async () => {
  for (const connector of opened) await connector.close();
  await owner.end();
  await database.stop();
});

function open(
  object: Partial<SqlObject> & Pick<SqlObject, 'source' | 'key'>,
  more: Partial<SqlSystem> = {},
): SqlConnector {
  const connector = new SqlConnector(
    { ...system, ...more, objects: { it: { search: [], mayWrite: true, mayDelete: true, ...object } } },
    'it',
    dependencies,
  );
  opened.push(connector);
  return connector;
}
const table = (name: string): SqlObject['source'] => ({ kind: 'table', schema: 'public', table: name });
const query = (sql: string): SqlObject['source'] => ({ kind: 'query', sql });
async function all(
  connector: Connector,
  changedSince?: number,
  between: (page: number) => Promise<unknown> = async () => undefined,
) {
  const records = new Map<string, Readonly<Record<string, Raw>>>();
  let pages = 0;
  for await (const page of connector.read({ changedSince })) {
    for (const { key, fields } of page.records) records.set(key, fields);
    await between((pages += 1));
  }
  return records;
}
const trouble = async (work: Promise<unknown>): Promise<string> =>
  work.then(
    () => 'none',
    (error: SystemTrouble) => error.code ?? error.message,
  );

test('values come as the database holds them, whatever their type and the names of their columns', async () => {
  const connector = open({ source: table('wide'), key: 'Key "1"' });
  const [[key, fields]] = [...(await all(connector))] as [[string, Record<string, Raw>]];
  expect(fields).toEqual({
    'Key "1"': { $number: key },
    amount: { $number: '1.10' },
    big: { $number: '9007199254740993' },
    flags: ['a,b', 'c"d', null],
    order: { n: { $number: '1.50' } },
    at: '2026-11-23T10:00:00.5Z',
    moment: '2026-11-23T10:00:00Z',
    day: '2026-11-23',
    note: 'ü🌱',
  });
  const fields2 = new Map<string, Raw>([
    ['amount', { $number: '12345678901234567890.10' }],
    ['flags', ['x', 'y"z']],
    ['order', { deep: [1] }],
    ['note', null],
  ]);
  expect(
    await connector.write([{ kind: 'update', key: recordKey(key), version: undefined, fields: fields2 }]),
  ).toMatchObject([{ kind: 'written', record: { fields: Object.fromEntries(fields2) } }]);
});

test('a listing by key gives every row that was there throughout, while others come, change and go', async () => {
  const connector = open({ source: table('long'), key: 'id' });
  const found = await all(connector, undefined, async (page) => {
    await owner.query(`delete from long where id = $1`, [page * 10]);
    await owner.query(`insert into long values ($1, 'new')`, [-page]);
    await owner.query(`update long set name = 'changed' where id % 7 = 0`);
  });
  const { rows } = await owner.query<{ id: number }>('select id from long where id > 0 and id not in (10, 20, 30, 40)');
  expect(rows.every(({ id }) => found.has(String(id)))).toBe(true);
  await owner.query('delete from long where id < 0');
});

test('what changed since a time is found, also at that very time and when many changed at once', async () => {
  const at = Date.UTC(2026, 5, 1, 12);
  await owner.query('update long set changed_at = $1 where id between 100 and 1350', [new Date(at)]);
  const connector = open({ source: table('long'), key: 'id', modifiedAt: 'changed_at' });
  expect((await all(connector, at)).size).toBe(1251);
  expect((await all(connector, at + 1)).size).toBe(0);
});

test(
  'writes have an outcome each: made, refused in the database’s words, raced, gone; none ' + 'spoils another',
  async () => {
    const connector = open({ source: table('debtor'), key: 'debtor_no', modifiedAt: 'changed_at', search: ['mail'] });
    const [known] = [...(await all(connector)).keys()] as [string];
    const before = await connector.readOne(recordKey(known));
    await owner.query(`update debtor set place = 'Elsewhere' where debtor_no = $1`, [known]);
    const update = (key: string, version: string | undefined, fields: [string, Raw][]) => ({
      kind: 'update' as const,
      key: recordKey(key),
      version,
      fields: new Map(fields),
    });
    const outcomes = await connector.write([
      {
        kind: 'create',
        idempotencyKey: 'x',
        fields: new Map<string, Raw>([
          ['name', 'New "Ltd"; drop table debtor'],
          ['mail', 'new@x.example'],
        ]),
      },
      { kind: 'create', idempotencyKey: 'y', fields: new Map<string, Raw>([['place', 'without a name']]) },
      update(known, before?.version, [['name', 'too late']]),
      update(known, undefined, [['name', 'x'.repeat(61)]]),
      update('D99999', undefined, [['name', 'nobody']]),
      update(known, undefined, [['no such column', 1]]),
    ]);
    expect(outcomes.map(({ kind }) => kind)).toEqual(['written', 'refused', 'raced', 'refused', 'gone', 'refused']);
    expect((outcomes[1] as Extract<WriteOutcome, { kind: 'refused' }>).words).toMatch(
      /null value in column "name".*Failing row/s,
    );
    expect((await connector.search('mail', 'new@x.example'))[0]?.fields.name).toBe('New "Ltd"; drop table debtor');
    expect(await connector.readOne(recordKey('no such key'))).toBeUndefined();
    expect(await open({ source: table('wide'), key: 'Key "1"' }).readOne(recordKey('not a number'))).toBeUndefined();
  },
);

test(
  'many updates of the same columns go in one statement; the raced, the gone and the refused are told ' +
    'apart all the same',
  async () => {
    const connector = open({ source: table('long'), key: 'id', modifiedAt: 'changed_at' });
    const versions = new Map<string, string | undefined>();
    for await (const page of connector.read({}))
      for (const { key, version } of page.records) versions.set(key, version);
    const update = (id: number, name: Raw, version = versions.get(String(id))) => ({
      kind: 'update' as const,
      key: recordKey(String(id)),
      version,
      fields: new Map([['name', name]]),
    });
    await owner.query(`update long set name = 'theirs' where id = 2050`);
    const many = Array.from({ length: 100 }, (_, index) => update(2001 + index, `new ${index} "quoted" \\ 🌱`));
    const outcomes = await connector.write([...many, update(999_999, 'nobody', '1')]);
    expect(outcomes.map(({ kind }) => kind)).toEqual([
      ...Array.from({ length: 100 }, (_, index) => (index === 49 ? 'raced' : 'written')),
      'gone',
    ]);
    const transactions = await owner.query(
      'select xmin::text, count(*)::int from long where id between 2001 and 2100 and id <> 2050 group by 1',
    );
    expect(transactions.rows).toEqual([{ xmin: expect.any(String) as unknown as string, count: 99 }]);
    expect((await connector.readOne(recordKey('2007')))?.fields.name).toBe('new 6 "quoted" \\ 🌱');
    // One that is refused takes none of the others with it.
    expect(
      (
        await connector.write([
          update(2201, 'good'),
          update(2202, null),
          update(2203, 'good too'),
          { ...update(2201, 'again'), version: undefined },
        ])
      ).map(({ kind }) => kind),
    ).toEqual(['written', 'refused', 'written', 'written']);
    expect((await connector.readOne(recordKey('2201')))?.fields.name).toBe('again');
  },
);

test('a query can only read, only once, and not for ever', async () => {
  const total = open({
    source: query('select kind::text as kind, sum(total) as total from sales_document group by 1 -- by kind'),
    key: 'kind',
  });
  expect([...(await all(total)).keys()].sort()).toEqual(['invoice', 'order', 'quote']);
  for (const [sql, says] of [
    ['with gone as (delete from long returning id) select * from gone', 'answer not understood'],
    ['select 1 as id; delete from long', 'answer not understood'],
    ["select 1 as id) as source; delete from long where ('' = '", 'answer not understood'],
    ["select nextval('debtor_number') as id", 'answer not understood'],
    ['select no_such_column as id from long', 'answer not understood'],
    ['select id from no_such_table', 'object is gone'],
  ] as const) {
    expect([sql, await trouble(all(open({ source: query(sql), key: 'id' })))]).toEqual([sql, says]);
  }
  expect(
    await trouble(all(open({ source: query('select pg_sleep(5)::text as id'), key: 'id' }, { timeoutMs: 200 }))),
  ).toBe('server error');
  expect(Number((await owner.query<{ count: string }>('select count(*) from long')).rows[0]?.count)).toBeGreaterThan(
    3000,
  );
  expect(await total.write([{ kind: 'create', idempotencyKey: 'z', fields: new Map() }])).toMatchObject([
    { kind: 'refused' },
  ]);
});

test('a table describes itself: types, what is required or fixed, choices, references, lengths', async () => {
  const { fields } = await open({ source: table('sales_document'), key: 'doc_no' }).describe();
  expect(fields).toContainEqual({ path: 'kind', type: 'text', required: true, choices: ['quote', 'order', 'invoice'] });
  expect(fields).toContainEqual({ path: 'debtor_no', type: 'text', required: true, reference: 'debtor', longest: 10 });
  expect((await open({ source: table('sales_line'), key: 'line_id' }).describe()).fields).toContainEqual({
    path: 'amount',
    type: 'number',
    readOnly: true,
  });
  const preview = await previewQuery(
    system,
    'select doc_date, sum(total) as total from sales_document group by 1 order by 1;',
    dependencies,
  );
  expect(preview.fields).toEqual([
    { path: 'doc_date', type: 'date', readOnly: true },
    { path: 'total', type: 'number', readOnly: true },
  ]);
  expect(preview.rows.length).toBeGreaterThan(3);
});

test('the tables that a role can see are listed with what it may do there', async () => {
  const tables = await listTables(system, dependencies);
  expect(tables.find((one) => one.table === 'debtor')).toMatchObject({
    key: 'debtor_no',
    times: ['changed_at'],
    may: ['read', 'create', 'update'],
    kind: 'table',
  });
  expect(tables.find((one) => one.table === 'staff')).toMatchObject({ may: ['read'] });
});

test('each thing that can be wrong is named, with the step where it failed and what to do', async () => {
  const objects = {
    debtors: { source: table('debtor'), key: 'debtor_no', search: [], mayWrite: true, mayDelete: true },
  };
  const tried = async (more: Partial<SqlSystem>, secret = password) => {
    const { steps } = await probeSystem(
      { ...system, objects, ...more },
      { ...dependencies, credential: { id: erpRole, secret } },
    );
    const failed = steps.find(({ state }) => state === 'failed');
    return failed ? `${failed.name}: ${failed.says} ${failed.advice}` : 'good';
  };
  expect(await tried({})).toBe('good');
  expect(await tried({}, 'wrong')).toMatch(/^Sign in: .*password authentication failed.*Check the role/);
  expect(await tried({ database: 'nowhere' })).toMatch(/^Read debtors: .*nowhere.*Check the name of the database/);
  expect(await tried({ port: 1 })).toMatch(/^Reach the host: .*ECONNREFUSED.*check the port/);
  expect(await tried({ host: '10.0.0.1' })).toMatch(/^Reach the host: .*private network/);
  expect(await tried({ tls: 'verified' })).toMatch(/^Read debtors: .*does not speak TLS/);
  expect(await tried({ objects: { debtors: { ...objects.debtors, key: 'id' } } })).toMatch(
    /^Read debtors: .*column "id" does not exist/,
  );
  await owner.query(`revoke update on debtor from ${erpRole}`);
  const doubts = await probeSystem(
    { ...system, objects },
    { ...dependencies, credential: { id: erpRole, secret: password } },
  );
  expect([doubts.ok, doubts.steps.find(({ state }) => state === 'doubtful')?.says]).toEqual([
    true,
    expect.stringContaining('this account may read, and not update'),
  ]);
  const write = open({ source: table('debtor'), key: 'debtor_no' }).write([
    { kind: 'update', key: recordKey('D10001'), version: undefined, fields: new Map([['name', 'x']]) },
  ]);
  expect(await trouble(write)).toBe('not allowed');
  await owner.query(`grant update on debtor to ${erpRole}`);
});

test('what changed since is told by the clocks of the system’s zone, where its times name none', async () => {
  await owner.query(`create table local (id int primary key, wall timestamp, moment timestamptz);
    insert into local values (1, '2026-07-01 11:59:59', '2026-07-01 09:59:59Z'),
      (2, '2026-07-01 12:00:00', '2026-07-01 10:00:00Z');
    grant select on local to ${erpRole}`);
  const since = Date.parse('2026-07-01T10:00:00Z');
  for (const modifiedAt of ['wall', 'moment']) {
    const connector = open({ source: table('local'), key: 'id', modifiedAt }, { times: { zone: 'Europe/Amsterdam' } });
    expect([...(await all(connector, since)).keys()]).toEqual(['2']);
    // Its clock is ours, measured over a call: on a busy machine that is not exact.
    expect(Math.abs(((await connector.readOne(recordKey('2')))?.modifiedAt ?? 0) - since)).toBeLessThan(5000);
  }
  const ahead = open({ source: table('local'), key: 'id', modifiedAt: 'moment' }, { times: { aheadMs: 60_000 } });
  expect(Math.abs(((await ahead.readOne(recordKey('2')))?.modifiedAt ?? 0) - (since - 60_000))).toBeLessThan(5000);
  expect(ahead.clockOffset()).toBe(60_000);
});
