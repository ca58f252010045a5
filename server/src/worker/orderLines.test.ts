/**
 * Rows that are a list within a record here and a table of their own there: the lines of the shop's orders, and those
 * of the ERP, over real HTTP and two real databases.
 */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Pool } from 'pg';
import { type AnchorList, type AnchorRows, type AnchorView, knotFileSchema } from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import { generateBusiness, generateCustomers, type ShopOrder } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { RealErp } from '../testing/realErp.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const demo = join(import.meta.dirname, '../../demo');
const knotOf = (file: string): Knot =>
  knotFileSchema.parse(JSON.parse(readFileSync(join(demo, `${file}.knot.json`), 'utf8'))).knot;
const orders = knotOf('orders');
/** Orders without their customers, and without being made anywhere; the ERP is told how many lines they have. */
const ordersKnot: Knot = {
  ...orders,
  members: orders.members.map((one) => ({ ...one, may: { create: false, update: one.id === 'erp' }, required: [] })),
  fields: orders.fields.filter(({ id }) => id === 'number' || id === 'lineCount'),
  crosswalks: {},
};

const data = generateCustomers({ seed: 5, inBoth: 12, onlyCrm: 1, onlyShop: 3, mess: false });
const business = generateBusiness(data, { seed: 5, documents: 40, mess: false });
/** One order with as many lines as somebody ever had. */
const large = 4001;
const most = 500;
const article = (index: number): string => `E${String(index).padStart(3, '0')}`;
const linesOf = (from: number, to: number) =>
  Array.from({ length: to - from }, (_, index) => ({ sku: article(from + index), qty: 1, unit_price: '2.50' }));
const shopOrder = (id: number, lines: ShopOrder['lines']): ShopOrder => ({
  id: String(id),
  shopper_id: Number(data.shoppers[0]?.id),
  status: 'paid',
  placed: '2026-03-02 09:00:00',
  changed: '2026-03-02 09:00:00',
  total: '0.00',
  lines,
});

let database: TestDatabase;
let erpDatabase: TestDatabase;
let realErp: RealErp;
let erp: Pool;
let installation: RealInstallation;
/** What the shop was asked for. */
let calls: string[];

beforeAll(async () => {
  [database, erpDatabase] = await Promise.all([TestDatabase.start(), TestDatabase.start()]);
});
beforeEach(async () => {
  realErp = await RealErp.open(erpDatabase, business);
  erp = realErp.pool;
  await erp.query('truncate sales_document, article cascade');
  await erp.query(`insert into article (article_no, description, price)
    select 'E' || lpad(n::text, 3, '0'), 'Part ' || n, 2.50 from generate_series(0, ${most + 9}) n`);
  const debtor = business.debtors[0]?.number;
  for (const [number, lines] of [
    [large, most],
    [4002, 2],
  ])
    await erp.query(
      `with document as (insert into sales_document (doc_no, debtor_no, kind, status, doc_date)
         values (${number}, '${debtor}', 'order', 'booked', '2026-03-02') returning doc_no)
       insert into sales_line (doc_no, position, article_no, quantity, price)
         select doc_no, n + 1, 'E' || lpad(n::text, 3, '0'), 1, 2.50 from document, generate_series(0, ${lines} - 1) n`,
    );
  calls = [];
  installation = await RealInstallation.start(database, data, {
    shop: { orders: [shopOrder(large, linesOf(0, most)), shopOrder(4002, linesOf(0, 2))] },
    prepare: (_, shop) => {
      shop.addHook('onRequest', async ({ method, url: path }) => {
        if (path.startsWith('/shop/')) calls.push(`${method} ${path.split('?')[0]}`);
      });
    },
  });
  await realErp.connectTo(installation);
  await installation.parts.knots.create(ordersKnot, 'test');
  await installation.parts.knots.create(knotOf('orderLines'), 'test');
  await installation.startWorker();
});
afterEach(async () => {
  await installation.stop();
  await realErp.close();
});
afterAll(async () => {
  await Promise.all([database.stop(), erpDatabase.stop()]);
});

const run = async (knot: string, more: Parameters<RealInstallation['ask']>[1] = {}) => {
  const { progress, words, state } = await installation.run('run', { knot, overGuards: true, ...more });
  if (state === 'failed') throw new Error(words ?? '');
  return progress?.tally ?? {};
};
async function tied(): Promise<void> {
  await run('orders');
  await run('orderLines');
}
async function shopLines(order: number): Promise<ShopOrder['lines']> {
  const answer = await fetch(`${installation.addresses.shop}/shop/v1/orders/${order}`, { headers: authorized() });
  return ((await answer.json()) as { order: ShopOrder }).order.lines;
}
const authorized = () => ({
  authorization: `Basic ${Buffer.from(`id:${installation.secret}`).toString('base64')}`,
  'content-type': 'application/json',
});
async function putLines(order: number, lines: readonly object[]): Promise<void> {
  const answer = await fetch(`${installation.addresses.shop}/shop/v1/orders/${order}`, {
    method: 'PUT',
    headers: authorized(),
    body: JSON.stringify({ order: { lines } }),
  });
  expect(answer.status).toBe(200);
}
const asErp = ({ sku, qty, unit_price: price }: ShopOrder['lines'][number]) =>
  `${sku} ${Number(qty)} ${Number(price).toFixed(2)}`;
async function erpLines(order: number): Promise<string[]> {
  const { rows } = await erp.query<{ line: string }>(
    `select article_no || ' ' || quantity::float8 || ' ' || price as line from sales_line where doc_no = $1
     order by position`,
    [order],
  );
  return rows.map(({ line }) => line);
}

test('five hundred rows of a record, changed, added and taken out on both sides, are the same afterwards', async () => {
  await tied();
  expect(calls.filter((call) => call.startsWith('PUT'))).toEqual([]);
  const lines = linesOf(0, most).map((line, index) => (index % 2 === 0 ? { ...line, qty: 2 } : line));
  await putLines(large, [...lines.slice(1, most), ...linesOf(most, most + 3)]);
  await erp.query(`update sales_line set quantity = 3 where doc_no = ${large} and position % 2 = 0`);
  await erp.query(`delete from sales_line where doc_no = ${large} and article_no = '${article(11)}'`);
  await erp.query(`insert into sales_line (doc_no, position, article_no, quantity, price)
    values (${large}, 600, '${article(most + 5)}', 7, 2.50)`);
  calls = [];
  // A database does not say what was deleted: that is seen where all is listed.
  await run('orderLines', { full: true });
  // All that is new there is written by one call.
  expect(calls.filter((call) => call.startsWith('PUT'))).toEqual([`PUT /shop/v1/orders/${large}`]);
  await run('orderLines');
  const there = await shopLines(large);
  expect(there).toHaveLength(most - 1 + 3 - 1 + 1);
  expect(new Set(await erpLines(large))).toEqual(new Set(there.map(asErp)));
  const quantityOf = (sku: string) => there.find((line) => line.sku === sku)?.qty;
  expect([0, 2, 3, 11, most + 1, most + 5].map((index) => quantityOf(article(index)))).toEqual([
    undefined,
    2,
    3,
    undefined,
    1,
    7,
  ]);
  const { shop, erp: ofErp } = await run('orderLines');
  expect([shop, ofErp].map((one) => [one?.create, one?.update, one?.delete])).toEqual([
    [0, 0, 0],
    [0, 0, 0],
  ]);
  expect(await shopLines(4002)).toEqual(linesOf(0, 2));
});

test('a row that is edited here and taken out there is asked about, and stays until then', async () => {
  await tied();
  await putLines(4002, [{ ...linesOf(0, 1)[0], qty: 9 }, ...linesOf(1, 2)]);
  await erp.query(`delete from sales_line where doc_no = 4002 and position = 1`);
  await run('orderLines', { full: true });
  expect((await installation.decisions()).map(({ kind }) => kind)).toEqual(['deleted elsewhere']);
  // The page of the order has its rows, each with what waits for somebody.
  const api = await ApiClient.start(installation);
  const get = async <T>(path: string): Promise<T> => (await api.as('viewer', 'GET', path)).json() as T;
  const [order] = (await get<AnchorList>('/api/knots/orders/anchors?search=4002')).anchors;
  const { referring } = await get<AnchorView>(`/api/anchors/${order?.id}`);
  expect(referring).toMatchObject([{ knot: 'orderLines', count: 2, isRows: true }]);
  const rowsOf = (skip: number) => get<AnchorRows>(`/api/anchors/${order?.id}/rows/orderLines?skip=${skip}`);
  const { total, rows } = await rowsOf(0);
  expect([total, rows.map(({ title, decisions }) => [title, decisions.map(({ kind }) => kind)])]).toEqual([
    2,
    [
      ['4002 / E000', ['deleted elsewhere']],
      ['4002 / E001', []],
    ],
  ]);
  expect(rows[0]?.fields.find(({ id }) => id === 'order')?.agreed?.value).toMatchObject({ title: '4002' });
  expect((await rowsOf(1)).rows.map(({ title }) => title)).toEqual(['4002 / E001']);
  expect((await api.as('viewer', 'GET', `/api/anchors/${order?.id}/rows/none`)).statusCode).toBe(404);
  await api.close();
  expect((await shopLines(4002)).map(asErp)).toEqual(['E000 9 2.50', 'E001 1 2.50']);
  expect(await erpLines(4002)).toEqual(['E001 1 2.50']);
});

test('of an order that is told of its lines are read, and what is missing among them is gone', async () => {
  await tied();
  const told = { members: [], records: { shop: ['4002/'] } };
  await putLines(4002, [{ ...linesOf(1, 2)[0], qty: 4 }]);
  calls = [];
  await run('orderLines', told);
  expect(new Set(calls)).toEqual(new Set(['GET /shop/v1/orders/4002']));
  expect(await erpLines(4002)).toEqual(['E001 4 2.50']);
  await putLines(4002, [...linesOf(7, 8), { ...linesOf(1, 2)[0], qty: 4 }]);
  await run('orderLines', told);
  expect(await erpLines(4002)).toEqual(['E001 4 2.50', 'E007 1 2.50']);
  expect(await erpLines(large)).toHaveLength(most);
});

test('a row whose order is not there yet waits for it, and is made with the order’s number', async () => {
  await tied();
  const answer = await fetch(`${installation.addresses.shop}/orders/records`, {
    method: 'POST',
    redirect: 'manual',
    body: new URLSearchParams({ shopper_id: String(data.shoppers[0]?.id), status: 'paid', lines: 'E001 3 2.50' }),
  });
  const number = Number(/\d+$/.exec(answer.headers.get('location') ?? '')?.[0]);
  await run('orderLines');
  expect((await installation.decisions()).map(({ kind }) => kind)).toContain('waiting');
  await erp.query(
    `insert into sales_document (doc_no, debtor_no, kind, status, doc_date)
     select ${number}, debtor_no, 'order', 'booked', '2026-03-03' from debtor limit 1`,
  );
  await run('orders');
  await run('orderLines');
  expect(await erpLines(number)).toEqual(['E001 3 2.50']);
  expect((await installation.decisions()).map(({ kind }) => kind)).toEqual([]);
});

test('an order is told how many lines it has, and again when there are others', async () => {
  const counts = async () =>
    (await erp.query<{ line_count: number | null }>('select line_count from sales_document order by doc_no')).rows.map(
      ({ line_count }) => line_count,
    );
  await tied();
  expect(await counts()).toEqual([null, null]);
  await run('orders');
  expect(await counts()).toEqual([most, 2]);
  await putLines(4002, linesOf(0, 3));
  await run('orderLines');
  await run('orders');
  expect(await counts()).toEqual([most, 3]);
  const { erp: written } = await run('orders');
  expect(written?.update).toBe(0);
});
