/**
 * Two knots over real HTTP and a real database, of which one refers to the other: the orders of the shop become
 * deals of the CRM, each with the account that its shopper is tied to.
 */
import { setTimeout as wait } from 'node:timers/promises';
import type {
  AnchorList,
  AnchorView,
  DecisionList,
  LackedList,
  Reading,
  SaidSubstitute,
  SubstituteList,
  Watch,
} from '@anchor-knot/contracts';
import type { Knot, Mapping } from '@anchor-knot/core';
import { generateCustomers, type ShopOrder } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const data = generateCustomers({ seed: 5, inBoth: 12, onlyCrm: 1, onlyShop: 3, mess: false });
const accountOf = new Map(data.truth.map(({ crm, shop }) => [shop[0], crm[0]]));
const orders = data.shoppers.map(({ id }, index): ShopOrder => ({
  id: String(4001 + index),
  shopper_id: Number(id),
  status: 'paid',
  placed: '2026-03-02 09:00:00',
  changed: '2026-03-02 09:00:00',
  total: `${10 + index}.00`,
  lines: [],
}));

const mapping = (field: string, direction: Mapping['direction'], steps: Mapping['steps'] = []): Mapping => ({
  field,
  direction,
  steps,
  absentMeansBlank: false,
  blankAs: 'null',
  drift: 'put back',
});
const rule = { steps: [{ step: 'ask' }] } as const;
const member = { startsAnchors: true, guards: {} };
const ordersKnot: Knot = {
  id: 'orders',
  name: 'Orders',
  thing: 'order',
  titleField: 'number',
  start: 'merge',
  members: [
    {
      ...member,
      id: 'shop',
      system: 'marketRow',
      object: 'orders',
      may: { create: false, update: false },
      required: [],
    },
    {
      ...member,
      id: 'crm',
      system: 'fernhill',
      object: 'deals',
      may: { create: true, update: true },
      required: ['accountId'],
    },
  ],
  fields: [
    {
      id: 'number',
      name: 'Number',
      type: 'text',
      rule,
      mappings: { shop: mapping('order_no', 'from'), crm: mapping('title', 'both ways') },
    },
    {
      id: 'customer',
      name: 'Customer',
      type: 'reference',
      refersTo: 'customers',
      rule,
      mappings: {
        shop: mapping('shopper_id', 'from', [{ kind: 'reference', by: { member: 'shop' } }]),
        crm: mapping('accountId', 'both ways', [{ kind: 'reference', by: { member: 'crm' } }]),
      },
    },
  ],
  keyRules: [{ name: 'Number', fields: [{ field: 'number', normalise: 'text' }] }],
  checks: [],
  crosswalks: {},
};

/** Customers, of whom none is made in the other system: some shoppers have no account. */
const customersKnot: Knot = {
  ...demoKnot,
  members: demoKnot.members.map((one) => ({ ...one, may: { create: false, update: true } })),
};

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
});
beforeEach(async () => {
  installation = await RealInstallation.start(database, data, { shop: { orders }, knot: customersKnot });
  await installation.parts.knots.create(ordersKnot, 'test');
  await installation.startWorker();
  api = await ApiClient.start(installation);
});
afterEach(async () => {
  await api.close();
  await installation.stop();
});
afterAll(async () => {
  await database.stop();
});

const get = async <T>(path: string): Promise<T> => (await api.as('viewer', 'GET', path)).json() as T;
const run = async (knot: string): Promise<void> => {
  await installation.ended(await installation.ask('run', { knot }));
};
async function deals(): Promise<Map<string, string>> {
  const { anchors } = await get<AnchorList>('/api/knots/orders/anchors');
  const found = new Map<string, string>();
  for (const { id, ties } of anchors) {
    const view = await get<AnchorView>(`/api/anchors/${id}`);
    const cell = view.fields.find((field) => field.id === 'customer')?.cells.crm;
    const shop = ties.find((tie) => tie.member === 'shop')?.key;
    if (shop !== undefined && typeof cell?.raw === 'string') found.set(shop, cell.raw);
  }
  return found;
}
const waiting = async () => (await get<DecisionList>('/api/decisions?kind=waiting')).decisions;
const accountsOfOrders = new Map(
  orders.map(({ id, shopper_id }) => [id, accountOf.get(String(shopper_id))]).filter(([, account]) => account) as [
    string,
    string,
  ][],
);

test('an order waits for its customer, and goes by itself when that is there; views say its name', async () => {
  await installation.parts.timings.keep(
    ordersKnot,
    0,
    { zone: 'Europe/London', triggers: { shop: { kind: 'asking', seconds: 3600 } } },
    'test',
    Date.now(),
  );
  await run('orders');
  const before = await waiting();
  expect(before.length).toBe(orders.length);
  expect(before[0]?.says).toMatch(
    /^Customer in Market Row waits: nothing in Customers is known by “770\d\d” yet. It goes by itself when it is.$/,
  );
  expect(before[0]?.detail).toMatchObject({ knot: 'customers', by: { member: 'shop' }, thing: null });
  expect((await deals()).size).toBe(0);
  const lacked = () => get<LackedList>('/api/decisions/lacked?knot=orders');
  const shoppers = new Set(orders.map(({ shopper_id }) => String(shopper_id)));
  const [most] = (await lacked()).lacked;
  expect((await lacked()).total).toBe(shoppers.size);
  expect(most).toMatchObject({ knotName: 'Orders', fieldName: 'Customer', of: 'customers', thing: null });
  expect(shoppers.has(most?.lacks ?? '')).toBe(true);
  const ofMost = await get<DecisionList>(`/api/decisions?kind=waiting&lacks=${most?.lacks}`);
  expect([ofMost.total, ofMost.decisions.length]).toEqual([most?.count, most?.count]);
  // It waits for customers, and for nobody.
  const watch = await get<Watch>('/api/watch');
  const members = watch.knots.find(({ id }) => id === 'orders')?.members ?? [];
  expect(members.map((one) => one.waiting)).toEqual([0, 0]);
  expect(watch.waiting.map(({ kind, count }) => [kind, count])).toContainEqual(['waiting', orders.length]);

  await run('customers');
  for (let tries = 0; (await deals()).size < accountsOfOrders.size && tries < 100; tries += 1) await wait(100);
  const { runs } = await get<{ runs: { cause: string; startedBy: string }[] }>('/api/runs?knot=orders&quiet=true');
  expect(runs.map(({ cause, startedBy }) => [cause, startedBy])).toContainEqual(['release', '']);
  expect(await deals()).toEqual(accountsOfOrders);
  // The others have customers by now, and these no account.
  const still = await waiting();
  expect(still.length).toBe(orders.length - accountsOfOrders.size);
  expect(still[0]?.says).toMatch(
    /^Customer waits: .+, in Customers, has no record yet by which Fernhill CRM could be told of it\./,
  );
  expect(still[0]?.says).not.toContain('what it refers to');
  const onWatch = (await get<Watch>('/api/watch')).waiting.find(({ kind }) => kind === 'waiting');
  expect(onWatch?.example).toMatch(/^Customer waits: what it refers to has no record yet by which Fernhill CRM could/);
  const [thing] = (await lacked()).lacked;
  expect(thing?.lacks).toBe(thing?.thing);
  expect(still[0]?.says).toContain(`waits: ${thing?.title}, in Customers`);

  const [customer] = (await get<AnchorList>(`/api/knots/customers/anchors?search=${orders[0]?.shopper_id}`)).anchors;
  const view = await get<AnchorView>(`/api/anchors/${customer?.id}`);
  expect(view.referring).toEqual([
    { knot: 'orders', knotName: 'Orders', count: 1, isRows: false, first: [{ id: expect.any(String), title: '4001' }] },
  ]);
  const order = await get<AnchorView>(`/api/anchors/${view.referring[0]?.first[0]?.id}`);
  expect(order.fields.find(({ id }) => id === 'customer')?.agreed?.value).toEqual({
    $thing: customer?.id,
    knot: 'customers',
    title: customer?.title,
  });
});

test('what refers to a thing follows when it is merged into another, or parted, and nobody is asked', async () => {
  await run('customers');
  await run('orders');
  const key = String(orders[0]?.shopper_id);
  const [customer] = (await get<AnchorList>(`/api/knots/customers/anchors?search=${key}`)).anchors;
  const body = { kind: 'split', members: ['shop'] };
  const answer = await api.as('operator', 'POST', `/api/anchors/${customer?.id}/regroup`, body);
  expect(answer.statusCode).toBe(200);
  await run('customers');
  await run('orders');
  const [parted] = (await get<AnchorList>(`/api/knots/customers/anchors?search=${key}`)).anchors;
  expect(parted?.id).not.toBe(customer?.id);
  const referring = async (id: string | undefined) => (await get<AnchorView>(`/api/anchors/${id}`)).referring;
  expect((await referring(parted?.id))[0]?.first.map(({ title }) => title)).toEqual(['4001']);
  expect(await referring(customer?.id)).toEqual([]);
  // The parted customer has no account, so that the deal cannot be told of it yet.
  const ofOrder = (await waiting()).filter(({ title }) => title === '4001');
  expect(ofOrder.map(({ member: of, detail }) => [of, detail])).toEqual([
    ['crm', expect.objectContaining({ value: null, thing: parted?.id })],
  ]);

  const joined = await api.as('operator', 'POST', `/api/anchors/${customer?.id}/regroup`, {
    kind: 'merge',
    with: parted?.id,
  });
  expect(joined.statusCode).toBe(200);
  await run('orders');
  expect((await waiting()).filter(({ title }) => title === '4001')).toEqual([]);
  expect((await referring(customer?.id))[0]?.first.map(({ title }) => title)).toEqual(['4001']);
});

test('what stands for a thing without a record is said once, for all that waits for it', async () => {
  const timing = { zone: 'Europe/London', triggers: { shop: { kind: 'asking', seconds: 3600 } } } as const;
  await installation.parts.timings.keep(ordersKnot, 0, timing, 'test', Date.now());
  await run('customers');
  await run('orders');
  const [first] = await waiting();
  if (first?.kind !== 'waiting' || first.detail.thing === null) throw new Error('no order waits for an account');
  const { thing } = first.detail;
  const of = first.title ?? '';
  const ofThing = async () => (await waiting()).filter(({ detail }) => 'thing' in detail && detail.thing === thing);
  const { anchors } = await get<AnchorList>('/api/knots/customers/anchors');
  const known = anchors.find(({ ties }) => ties.some((tie) => tie.member === 'crm'));
  const account = known?.ties.find((tie) => tie.member === 'crm')?.key;
  const say = (body: object) =>
    api.as('operator', 'PUT', '/api/knots/customers/substitutes', {
      by: { member: 'crm' },
      value: null,
      thing,
      stands: known?.id,
      ...body,
    });
  const refusal = async (body: object): Promise<unknown> => {
    const answer = await say(body);
    return [answer.statusCode, (answer.json() as { says: string }).says];
  };
  expect(await refusal({ stands: thing })).toEqual([409, 'It cannot stand for itself.']);
  expect(await refusal({ by: { member: 'till' } })).toEqual([409, 'No system refers to it in that way any more.']);
  expect(await refusal({ thing: known?.id, stands: thing })).toEqual([409, 'It is known there by now.']);
  expect(await refusal({ stands: '018f0000-0000-7000-8000-000000000000' })).toEqual([
    409,
    'There is no such customer to stand for it.',
  ]);
  expect(await refusal({ thing: null, value: account })).toEqual([
    409,
    `“${account}” is known there by now: nothing has to stand for it.`,
  ]);
  expect((await say({ stands: null })).statusCode).toBe(400);

  const said = (await say({})).json() as SaidSubstitute;
  for (const id of said.runs) await installation.ended(id);
  expect(await ofThing()).toEqual([]);
  expect((await deals()).get(of)).toBe(account);
  const [order] = (await get<AnchorList>(`/api/knots/orders/anchors?search=${of}`)).anchors;
  const view = await get<AnchorView>(`/api/anchors/${order?.id}`);
  const customer = view.fields.find(({ id }) => id === 'customer');
  expect(customer?.agreed?.value).toMatchObject({ $thing: thing });
  const { substitutes } = await get<SubstituteList>('/api/substitutes');
  expect(substitutes).toEqual([
    expect.objectContaining({
      id: said.id,
      knotName: 'Customers',
      way: 'keys of Customers in Fernhill CRM',
      of: expect.objectContaining({ $thing: thing }),
      stands: expect.objectContaining({ $thing: known?.id }),
      meansNobody: false,
      saidBy: 'operator',
    }),
  ]);
  expect((await get<SubstituteList>('/api/substitutes?search=nobody+of+that+name')).total).toBe(0);

  // Quiet, and what was told stays when it is taken back: only what changes waits again.
  await run('orders');
  expect((await deals()).get(of)).toBe(account);
  expect((await api.as('operator', 'DELETE', `/api/substitutes/${said.id}`)).statusCode).toBe(200);
  expect((await api.as('operator', 'DELETE', `/api/substitutes/${said.id}`)).statusCode).toBe(404);
  await run('orders');
  expect(await ofThing()).toEqual([]);
  expect((await deals()).get(of)).toBe(account);
}, 60_000);

test('a version whose references lead nowhere is not put in force', async () => {
  const change = async (refersTo: string, by: { member: string } | { field: string }) => {
    const [number, customer] = ordersKnot.fields;
    if (!number || !customer) throw new Error('the knot has two fields');
    const crm = { ...(customer.mappings.crm as Mapping), steps: [{ kind: 'reference' as const, by }] };
    const definition = {
      ...ordersKnot,
      fields: [number, { ...customer, refersTo, mappings: { ...customer.mappings, crm } }],
    };
    const answer = await api.as('editor', 'PUT', '/api/knots/orders/definition', { definition, basedOn: 1 });
    return ((answer.json() as { problems?: { says: string }[] }).problems ?? []).map(({ says }) => says);
  };
  const moved = 'it refers to “customers” since it is in force: make a field of its own for what is new';
  expect(await change('nowhere', { member: 'crm' })).toEqual([moved, 'no knot “nowhere” is in force here']);
  expect(await change('customers', { member: 'till' })).toEqual(['Customers has no member “till”']);
  expect(await change('customers', { field: 'town' })).toEqual([
    'nothing in Customers is found by “town” alone: choose a field that is a key of its own there',
  ]);
  expect(demoKnot.keyRules.map(({ name }) => name)).toContain('Email');
  expect(await change('customers', { field: 'email' })).toEqual([]);
});

test('a field whose values are keys of another knot is proposed as a reference to it', async () => {
  await run('customers');
  await run('orders');
  const made = await api.as('editor', 'POST', '/api/knots', {
    name: 'Sales',
    thing: 'sale',
    members: ordersKnot.members.map(({ system, object }) => ({ system, object })),
  });
  const { knot } = made.json() as { knot: string };
  const reading = (await api.as('editor', 'POST', `/api/knots/${knot}/reading`, { whole: false })).json() as Reading;
  const [proposal] = reading.proposals.filter(({ refersTo }) => refersTo === 'customers');
  expect(proposal).toMatchObject({ name: 'Customer', type: 'reference', isNew: true });
  const cells = proposal?.cells.map(({ field, steps, reasons }) => [field, steps, reasons[0]]);
  expect(cells).toContainEqual([
    'shopper_id',
    [{ kind: 'reference', by: { member: 'shop' } }],
    '15 of 15 values are keys of Customers in Market Row',
  ]);
  expect(cells?.map(([field]) => field).sort()).toEqual(['accountId', 'shopper_id']);
});
