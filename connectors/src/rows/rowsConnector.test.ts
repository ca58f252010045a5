/** Rows within records, over an object that answers as it is told to. */
import { parentOfRow, rowKey, rowsSchema } from '@anchor-knot/contracts';
import { type Raw, readPath, recordKey, type SourceRecord } from '@anchor-knot/core';
import { type Connector, type Page, SystemTrouble, type WriteOutcome, type WriteRequest } from '../connector.js';
import { RowsConnector } from './rowsConnector.js';

type List = readonly Raw[];

/** Orders with their lines; each writing takes a new version, and some time. */
class Orders {
  readonly lists = new Map<string, Raw>();
  readonly #versions = new Map<string, number>();
  /** How many writings there were. */
  writes = 0;
  answer: (list: List) => WriteOutcome | undefined = () => undefined;
  /** Whether a writing depends on the version that was read. */
  isConditional = true;

  constructor(lists: Readonly<Record<string, Raw>>) {
    for (const [key, list] of Object.entries(lists)) this.lists.set(key, list);
  }

  record(key: string): SourceRecord | undefined {
    const lines = this.lists.get(key);
    if (lines === undefined) return undefined;
    return { key: recordKey(key), fields: { no: key, lines }, version: String(this.#versions.get(key) ?? 0) };
  }

  edit(key: string, list: Raw): void {
    this.lists.set(key, list);
    this.#versions.set(key, (this.#versions.get(key) ?? 0) + 1);
  }

  connector(page?: Partial<Page>): Connector {
    const read = async function* (this: Orders): AsyncIterable<Page> {
      const records = [...this.lists.keys()].map((key) => this.record(key) as SourceRecord);
      yield { records, unusable: [], ...page };
    };
    const write = async ([request]: readonly WriteRequest[]): Promise<readonly WriteOutcome[]> => {
      if (request?.kind !== 'update') throw new Error('only updates are asked for');
      const list = request.fields.get('lines') as List;
      this.writes += 1;
      const other = this.answer(list);
      if (other) return [other];
      if (this.isConditional && request.version !== this.record(request.key)?.version) return [{ kind: 'raced' }];
      await new Promise((done) => setTimeout(done, 5));
      this.edit(request.key, list);
      return [{ kind: 'written', key: request.key, record: this.record(request.key) }];
    };
    return {
      capabilities: { update: true, changesSince: true },
      read: read.bind(this),
      readOne: async (key: string) => this.record(key),
      write,
    } as unknown as Connector;
  }
}

const described = rowsSchema.parse({ of: 'orders', list: 'lines', key: ['sku'] });
const linesOf = (orders: Orders, page?: Partial<Page>) => new RowsConnector(orders.connector(page), described);
const update = (key: string, fields: Record<string, Raw>, version?: string): WriteRequest => ({
  kind: 'update',
  key: recordKey(key),
  version,
  fields: new Map(Object.entries(fields)),
});
const create = (fields: Record<string, Raw>): WriteRequest => ({
  kind: 'create',
  idempotencyKey: JSON.stringify(fields),
  fields: new Map(Object.entries(fields)),
});
const remove = (key: string): WriteRequest => ({ kind: 'delete', key: recordKey(key), version: undefined });

async function pagesOf(connector: Connector): Promise<Page[]> {
  const pages: Page[] = [];
  for await (const page of connector.read({})) pages.push(page);
  return pages;
}

test('a key says whose row it is, whatever is in it', () => {
  for (const parent of ['7', 'a/b', '%2F', '50%', '/', 'é/🌱', '\ud800'])
    for (const values of [['x'], ['a&b', 'c#2'], ['', ''], ['/%']])
      expect(parentOfRow(rowKey(parent, values, 3))).toBe(parent);
  const keys = [
    rowKey('7', ['a&b', 'c'], 1),
    rowKey('7', ['a', 'b&c'], 1),
    rowKey('7', ['a#2'], 1),
    rowKey('7', ['a'], 2),
  ];
  expect(new Set(keys).size).toBe(4);
  expect([parentOfRow('nobody'), parentOfRow('/x'), parentOfRow('')]).toEqual([undefined, undefined, undefined]);
});

test('rows are told apart by their values, and those that are alike by their place among these', async () => {
  const orders = new Orders({
    '7': [{ sku: 'A', qty: 1 }, { sku: 'B' }, { sku: 'A', qty: 5 }, {}, { sku: null, qty: 2 }],
    '8': [],
    '9': null,
  });
  const [page] = await pagesOf(linesOf(orders));
  expect(page?.records.map(({ key }) => key)).toEqual(['7/A', '7/B', '7/A#2', '7/', '7/#2']);
  expect(page?.records[2]?.fields).toEqual({ sku: 'A', qty: 5, parent: '7', position: 3 });
  expect(page?.wholeUnder).toEqual(['7/', '8/', '9/']);
  // Of what moves nothing changes but its place.
  const before = page?.records.find(({ key }) => key === '7/B')?.version;
  orders.edit('7', [{ sku: 'B' }, { sku: 'A', qty: 1 }]);
  expect(await linesOf(orders).readOne(recordKey('7/B'))).toMatchObject({ version: before, fields: { position: 1 } });
});

test('rows are looked at as their records are, and not where these cannot be', async () => {
  const parents = new Orders({}).connector();
  expect(new RowsConnector(parents, described).look).toBeUndefined();
  expect(await new RowsConnector({ ...parents, look: async () => 'as it is' }, described).look?.()).toBe('as it is');
});

test('what is no row, and what is no list, is said; what is missing beside it does not count as gone', async () => {
  const orders = new Orders({ '7': [{ sku: 'A' }, 'B', 3], '8': 'none', '9': [{ sku: 'C' }] });
  const [page] = await pagesOf(linesOf(orders, { gone: [recordKey('6')] }));
  expect(page?.records.map(({ key }) => key)).toEqual(['7/A', '9/C']);
  expect(page?.unusable.map(({ reason }) => reason)).toEqual([
    'row 2 of 7 in “lines” has no fields: "B"',
    'row 3 of 7 in “lines” has no fields: 3',
    '8 has no list in “lines”',
  ]);
  // A record that is gone has no rows any more.
  expect(page?.wholeUnder).toEqual(['6/', '9/']);
});

test('ten thousand rows of one record are read and written by two calls; pages stay bounded otherwise', async () => {
  const many = Array.from({ length: 10_000 }, (_, index) => ({ sku: `S${index}`, qty: 1 }));
  const small = Object.fromEntries(
    Array.from({ length: 900 }, (_, index) => [`O${index}`, [{ sku: 'A' }, { sku: 'B' }, { sku: 'C' }]]),
  );
  const orders = new Orders({ '7': many, ...small });
  const connector = linesOf(orders);
  const sizes = (await pagesOf(connector)).map(({ records }) => records.length);
  expect(sizes.reduce((sum, size) => sum + size, 0)).toBe(12_700);
  expect(sizes.filter((size) => size > 1002)).toEqual([10_000]);
  const outcomes = await connector.write(many.map(({ sku }) => update(`7/${sku}`, { qty: 2 })));
  expect(outcomes.filter(({ kind }) => kind === 'written')).toHaveLength(10_000);
  expect([orders.writes, (orders.lists.get('7') as List).every((row) => readPath(row, 'qty') === 2)]).toEqual([
    1,
    true,
  ]);
});

test('rows that are added, changed and taken out are written by one call, beside what nobody maps', async () => {
  const orders = new Orders({ '7': [{ sku: 'A', qty: 1, note: 'gift' }, { sku: 'B', qty: 2 }, 'old text'] });
  const outcomes = await linesOf(orders).write([
    update('7/A', { qty: 3 }),
    remove('7/B'),
    create({ parent: '7', sku: 'C', qty: 4 }),
    create({ parent: 7, sku: 'A', qty: 9, position: 1 }),
    update('7/gone', { qty: 1 }),
    create({ sku: 'D' }),
    create({ parent: '999', sku: 'D' }),
  ]);
  expect(orders.lists.get('7')).toEqual([
    { sku: 'A', qty: 9 },
    { sku: 'A', qty: 3, note: 'gift' },
    'old text',
    { sku: 'C', qty: 4 },
  ]);
  expect(orders.writes).toBe(1);
  expect(outcomes).toMatchObject([
    { kind: 'written', key: '7/A#2', record: { fields: { qty: 3 } } },
    { kind: 'written', key: '7/B' },
    { kind: 'written', key: '7/C', record: { fields: { position: 4 } } },
    { kind: 'written', key: '7/A' },
    { kind: 'gone' },
    { kind: 'refused', words: 'it is not said whose row it is (parent)' },
    { kind: 'refused', words: 'there is no record 999 that it could be in' },
  ]);
});

test('a row stays with its record, and what tells it apart is not changed', async () => {
  const orders = new Orders({ '7': [{ sku: 'A', qty: 1 }], '8': [] });
  const outcomes = await linesOf(orders).write([
    update('7/A', { parent: '8' }),
    update('7/A', { sku: 'B' }),
    update('7/A', { sku: 'A', parent: '7', qty: 2 }),
  ]);
  expect(outcomes.map(({ kind }) => kind)).toEqual(['refused', 'refused', 'written']);
  expect(orders.lists.get('7')).toEqual([{ sku: 'A', qty: 2 }]);
});

test('a row that was changed since it was read is read again; one beside it does not matter', async () => {
  const orders = new Orders({
    '7': [
      { sku: 'A', qty: 1 },
      { sku: 'B', qty: 1 },
    ],
  });
  const connector = linesOf(orders);
  const [a, b] = await Promise.all(['7/A', '7/B'].map((key) => connector.readOne(recordKey(key))));
  orders.edit('7', [
    { sku: 'A', qty: 8 },
    { sku: 'B', qty: 1 },
  ]);
  const outcomes = await connector.write([
    update('7/A', { qty: 2 }, a?.version),
    update('7/B', { qty: 3 }, b?.version),
  ]);
  expect(outcomes.map(({ kind }) => kind)).toEqual(['raced', 'written']);
  expect(orders.lists.get('7')).toEqual([
    { sku: 'A', qty: 8 },
    { sku: 'B', qty: 3 },
  ]);
});

test('writings at the same time, and of somebody else in between, lose nothing', async () => {
  const orders = new Orders({
    '7': [
      { sku: 'A', qty: 1 },
      { sku: 'B', qty: 1 },
    ],
  });
  const connector = linesOf(orders);
  // Somebody adds a line between our reading and our writing.
  let edits = 0;
  orders.answer = () => {
    if ((edits += 1) === 1) orders.edit('7', [...(orders.lists.get('7') as List), { sku: 'Z' }]);
    return undefined;
  };
  await Promise.all([connector.write([update('7/A', { qty: 2 })]), connector.write([update('7/B', { qty: 3 })])]);
  expect(orders.lists.get('7')).toEqual([{ sku: 'A', qty: 2 }, { sku: 'B', qty: 3 }, { sku: 'Z' }]);
  orders.isConditional = false;
  await Promise.all([connector.write([update('7/A', { qty: 4 })]), connector.write([update('7/B', { qty: 5 })])]);
  expect(orders.lists.get('7')).toEqual([{ sku: 'A', qty: 4 }, { sku: 'B', qty: 5 }, { sku: 'Z' }]);
  orders.isConditional = true;
  // One who never stops is not waited for.
  orders.answer = () => ({ kind: 'raced' });
  expect(await connector.write([update('7/A', { qty: 4 })])).toEqual([{ kind: 'raced' }]);
});

test('one row that is refused keeps no other from being written; of a broken connection nobody knows', async () => {
  const orders = new Orders({
    '7': [
      { sku: 'A', qty: 1 },
      { sku: 'B', qty: 1 },
    ],
  });
  orders.answer = (list) =>
    list.some((row) => readPath(row, 'qty') === 0) ? { kind: 'refused', words: 'qty must be above 0' } : undefined;
  const connector = linesOf(orders);
  expect(await connector.write([update('7/A', { qty: 0 }), update('7/B', { qty: 5 })])).toMatchObject([
    { kind: 'refused', words: 'qty must be above 0' },
    { kind: 'written' },
  ]);
  orders.answer = () => ({ kind: 'unknown', words: 'it broke' });
  expect(await connector.write([update('7/A', { qty: 2 }), update('7/none', { qty: 5 })])).toEqual([
    { kind: 'unknown', words: 'it broke' },
    { kind: 'gone' },
  ]);
});

test('a system in trouble is told of where nothing was done; otherwise each row says how it ended', async () => {
  const orders = new Orders({ '7': [{ sku: 'A', qty: 1 }], '8': [{ sku: 'A', qty: 1 }] });
  const trouble = new SystemTrouble('unreachable', 'nobody answers', 'Look there.');
  const parents = orders.connector();
  const down = (keys: readonly string[]) =>
    new RowsConnector(
      {
        ...parents,
        readOne: async (key) => {
          if (keys.includes(key)) throw trouble;
          return orders.record(key);
        },
      },
      described,
    );
  const both = [update('7/A', { qty: 2 }), update('8/A', { qty: 2 })];
  await expect(down(['7', '8']).write(both)).rejects.toThrow('nobody answers');
  expect(await down(['8']).write(both)).toMatchObject([
    { kind: 'written' },
    { kind: 'not done', words: 'nobody answers' },
  ]);
});
