/**
 * The stand-ins tell of one company: what one system refers to is in the other, and the truth file says what belongs
 * together.
 */
import { generateBusiness } from './business.js';
import { demoCustomers, generateCustomers } from './customers.js';
import { generatePartners } from './partners.js';
import { generateSales } from './sales.js';
import { generateWork } from './work.js';

const make = () => {
  const customers = generateCustomers(demoCustomers);
  const business = generateBusiness(customers, { seed: demoCustomers.seed, documents: 2400, mess: true });
  return {
    customers,
    business,
    sales: generateSales(customers, business, demoCustomers.seed),
    work: generateWork(customers, { seed: demoCustomers.seed, tickets: 300, projects: 30, tasksEach: 10 }),
    partners: generatePartners(business, demoCustomers.seed),
  };
};
const demo = make();
const missing = (wanted: readonly unknown[], there: readonly unknown[]): unknown[] => {
  const known = new Set(there);
  return wanted.filter((one) => !known.has(one));
};

test('the same options give the same data, to the letter', () => {
  expect(make()).toEqual(demo);
});

test('it is a company of the size that was promised', () => {
  const { customers, business, work, sales } = demo;
  expect(customers.accounts).toHaveLength(400);
  const orders = business.documents.filter(({ kind }) => kind === 'order');
  expect(orders.length).toBeGreaterThan(1100);
  expect(orders.length).toBeLessThan(1300);
  expect(orders.every(({ lines }) => lines.length > 0)).toBe(true);
  expect([
    work.tickets.length,
    work.rows.filter(({ parent }) => parent === null).length,
    work.rows.filter(({ parent }) => parent !== null).length,
    // Thirty projects, and the board of the service desk, on which there is nothing yet.
  ]).toEqual([300, 31, 300]);
  expect([sales.people.length > 400, sales.deals.length > 100, sales.orders.length > 300]).toEqual([true, true, true]);
});

test.each<[string, readonly unknown[], readonly unknown[]]>([
  [
    'the accounts of people and deals',
    [...demo.sales.people, ...demo.sales.deals].map(({ accountId }) => accountId),
    demo.customers.accounts.map(({ id }) => id),
  ],
  [
    'the shoppers of orders',
    demo.sales.orders.map(({ shopper_id }) => shopper_id),
    demo.customers.shoppers.map(({ id }) => Number(id)),
  ],
  [
    'the articles of order lines',
    demo.sales.orders.flatMap(({ lines }) => lines.map(({ sku }) => sku)),
    demo.business.articles.map(({ number }) => number),
  ],
  [
    'the orders that became documents',
    demo.sales.orders.map(({ id }) => Number(id)),
    demo.business.documents.map(({ number }) => number),
  ],
  [
    'the debtors of documents',
    demo.business.documents.map(({ debtor }) => debtor),
    demo.business.debtors.map(({ number }) => number),
  ],
  [
    'the articles of document lines',
    demo.business.documents.flatMap(({ lines }) => lines.map(({ article }) => article)),
    demo.business.articles.map(({ number }) => number),
  ],
  [
    'the requesters of tickets',
    demo.work.tickets.map(({ requester_id }) => requester_id),
    demo.work.requesters.map(({ id }) => Number(id)),
  ],
  ['the projects of tasks', demo.work.rows.flatMap(({ parent }) => parent ?? []), demo.work.rows.map(({ id }) => id)],
  [
    'the partners of leads',
    demo.partners.leads.map(({ partner }) => partner),
    demo.partners.partners.map(({ number }) => number),
  ],
  [
    'the articles of partner prices',
    demo.partners.prices.map(({ article }) => article),
    demo.business.articles.map(({ number }) => number),
  ],
])('whatever refers to something refers to something that is there: %s', (_, wanted, there) => {
  expect(wanted.length).toBeGreaterThan(0);
  expect(missing(wanted, there)).toEqual([]);
});

test(
  'keys are used once in each system, and each record of the CRM and the shop belongs to one customer ' +
    'of the truth',
  () => {
    const { customers, business, work, sales } = demo;
    const keys: Record<string, readonly (string | number)[]> = {
      accounts: customers.accounts.map(({ id }) => id),
      shoppers: customers.shoppers.map(({ id }) => id),
      debtors: business.debtors.map(({ number }) => number),
      documents: business.documents.map(({ number }) => number),
      people: sales.people.map(({ id }) => id),
      deals: sales.deals.map(({ id }) => id),
      orders: sales.orders.map(({ id }) => id),
      tickets: work.tickets.map(({ id }) => id),
      rows: work.rows.map(({ id }) => id),
    };
    for (const [name, all] of Object.entries(keys)) expect([name, new Set(all).size]).toEqual([name, all.length]);
    const claimed = {
      crm: customers.truth.flatMap(({ crm }) => crm),
      shop: customers.truth.flatMap(({ shop }) => shop),
    };
    expect([...claimed.crm].sort()).toEqual([...(keys.accounts as string[])].sort());
    expect([...claimed.shop].sort()).toEqual([...(keys.shoppers as string[])].sort());
  },
);

test('the money of an order is the sum of its lines, and the shop and the ERP say the same', () => {
  const documents = new Map(demo.business.documents.map((document) => [String(document.number), document]));
  for (const order of demo.sales.orders) {
    const sum = order.lines.reduce(
      (total, { qty, unit_price }) => total + Math.round(qty * Number(unit_price) * 100),
      0,
    );
    expect([order.id, Math.round(Number(order.total) * 100)]).toEqual([order.id, sum]);
    expect(documents.get(order.id)?.lines.map(({ article }) => article)).toEqual(order.lines.map(({ sku }) => sku));
  }
});

test('with mess the systems differ in how they write the same customer; without it they do not', () => {
  const different = (mess: boolean) => {
    const { accounts, shoppers, truth } = generateCustomers({ seed: 4, inBoth: 200, onlyCrm: 0, onlyShop: 0, mess });
    const emailOf = new Map(accounts.map(({ id, contact }) => [id, contact.email]));
    const mailOf = new Map(shoppers.map(({ id, mail }) => [id, mail]));
    return truth.filter(({ crm, shop }) => emailOf.get(crm[0] ?? '') !== mailOf.get(shop[0] ?? '')).length;
  };
  expect(different(false)).toBe(0);
  expect(different(true)).toBeGreaterThan(25);
  const twice = generateCustomers({ ...demoCustomers, mess: true }).truth.filter(({ shop }) => shop.length > 1);
  expect(twice.length).toBeGreaterThan(0);
});
