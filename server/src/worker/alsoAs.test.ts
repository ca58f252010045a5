/**
 * One record feeds two knots: a customer of the shop is an account of the CRM, and a person in it. Over real HTTP and a
 * real database.
 */
import type { AnchorList } from '@anchor-knot/contracts';
import { type Knot, newMapping, newMember, referToSameRecord } from '@anchor-knot/core';
import { generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { systemClock } from './systemClock.js';

const data = generateCustomers({ seed: 5, inBoth: 6, onlyCrm: 0, onlyShop: 4, mess: false });
const page = 'https://shop.hazelmoor.example/shoppers/{key}';

const rule = { steps: [{ step: 'order', members: ['shop', 'crm'] }] } as const;
const field = (id: string, shop: string, crm: string, type: 'text' | 'email' = 'text') => ({
  ...{ id, name: id, type, rule },
  mappings: { shop: newMapping(shop, 'both ways'), crm: newMapping(crm, 'both ways') },
});
const begun: Knot = {
  ...{ id: 'buyers', name: 'Buyers', thing: 'buyer', titleField: 'last', start: 'merge', checks: [], crosswalks: {} },
  members: [
    { id: 'shop', ...newMember('marketRow', 'shoppers', ['update']), startsAnchors: true },
    { id: 'crm', ...newMember('fernhill', 'people', ['create', 'update']), required: ['accountId'] },
  ],
  fields: [
    field('first', 'first_name', 'firstName'),
    field('last', 'surname', 'lastName'),
    field('mail', 'mail', 'email', 'email'),
  ],
  keyRules: [{ name: 'Mail', fields: [{ field: 'mail', normalise: 'email' }] }],
};
/** As it is begun by New knot, with what a person adds: how the CRM says which account, and a link to the shop. */
const buyers = ((): Knot => {
  const same = { here: 'shop', there: 'shop' };
  const referring = referToSameRecord(
    'Page',
    'customers',
    same,
  )(referToSameRecord('Account', 'customers', same)(begun));
  const told: Record<string, ReturnType<typeof newMapping>> = {
    account: newMapping('accountId', 'both ways', [{ kind: 'reference', by: { member: 'crm' } }]),
    page: newMapping('role', 'to', [
      { kind: 'link', address: page },
      { kind: 'reference', by: { member: 'shop' } },
    ]),
  };
  return {
    ...(referring as Knot),
    fields: (referring as Knot).fields.map((one) => {
      const mapping = told[one.id];
      return mapping ? { ...one, rule, mappings: { ...one.mappings, crm: mapping } } : one;
    }),
  };
})();

interface Person {
  readonly accountId: string;
  readonly email: string;
  readonly role: string;
}

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(database, data, { knot: demoKnot });
  await installation.parts.knots.create(buyers, 'test');
  await installation.startWorker();
  api = await ApiClient.start(installation);
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

const run = async (knot: string) => (await installation.run('run', { knot })).progress?.tally;
async function people(): Promise<readonly Person[]> {
  const connector = await installation.parts.systems.connect({ system: 'fernhill', object: 'people' }, systemClock);
  const found: Person[] = [];
  for await (const { records } of connector.read({})) found.push(...records.map(({ fields }) => fields as never));
  await connector.close();
  return found;
}

test('each shopper is an account and a person in it, who leads to the shop; an edit there reaches both', async () => {
  await run('customers');
  await run('buyers');
  const path = '/api/knots/customers/anchors';
  const { anchors } = (await api.as('viewer', 'GET', path)).json() as AnchorList;
  const keyIn = (ties: AnchorList['anchors'][number]['ties'], member: string) =>
    ties.find((tie) => tie.member === member)?.key;
  const accountOf = new Map(anchors.map(({ ties }) => [keyIn(ties, 'shop'), keyIn(ties, 'crm')]));
  const made = await people();
  expect(made.map(({ accountId, email, role }) => [accountId, email, role]).sort()).toEqual(
    data.shoppers.map(({ id, mail }) => [accountOf.get(id), mail, page.replace('{key}', id)]).sort(),
  );
  expect(new Set(made.map(({ accountId }) => accountId)).size).toBe(data.shoppers.length);
  expect((await run('buyers'))?.crm).toMatchObject({ create: 0, update: 0 });

  const [shopper] = data.shoppers;
  const answer = await fetch(`${installation.addresses.shop}/shop/v1/shoppers/${shopper?.id}`, {
    method: 'PUT',
    headers: {
      authorization: `Basic ${Buffer.from(`id:${installation.secret}`).toString('base64')}`,
      'content-type': 'application/json',
    },
    body: JSON.stringify({ shopper: { mail: 'new@ortolan.example' } }),
  });
  expect(answer.status).toBe(200);
  expect((await run('customers'))?.crm?.update).toBe(1);
  expect((await run('buyers'))?.crm?.update).toBe(1);
  expect((await people()).find(({ email }) => email === 'new@ortolan.example')?.accountId).toBe(
    accountOf.get(shopper?.id ?? ''),
  );
});
