/** Outcomes over real HTTP and a real database: told, refused and told again when asked; awaited, late and listed. */
import type { Accounts, AnchorView, ListedRecords, NoticeList, OperationList, Repair } from '@anchor-knot/contracts';
import type { Knot, OutcomeFields } from '@anchor-knot/core';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const customers = generateCustomers({ seed: 5, inBoth: 3, onlyCrm: 1, onlyShop: 0, mess: false });
const told: OutcomeFields = {
  of: 'shop',
  state: { field: 'accounting.state', done: 'Booked', failed: 'Failed', pending: 'Waits', ready: 'Ready' },
  words: 'accounting.message',
  time: 'accounting.toldAt',
  key: 'accounting.number',
  link: 'accounting.page',
};
/** The shop never says that it has worked on anything. */
const awaiting = { field: 'activated_at', lateAfter: 5 };
const knot: Knot = {
  ...demoKnot,
  members: demoKnot.members.map((member) =>
    member.id === 'crm' ? { ...member, outcomes: [told] } : { ...member, acknowledges: awaiting },
  ),
};
const onlyThere = customers.truth.find(({ shop }) => shop.length === 0)?.crm[0] as string;

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
let isLocked = false;
beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(database, customers, {
    knot,
    prepare: (crm) =>
      crm.addHook('preHandler', async (request, reply) => {
        if (!isLocked || request.method !== 'PATCH' || !('accounting' in (request.body as object))) return;
        await reply.code(422).send({ error: { message: 'accounting is locked' } });
      }),
  });
  await installation.parts.data.query(
    `update system set description = description::jsonb || jsonb_build_object('page', $1::text) where id = 'marketRow'`,
    [installation.addresses.shop],
  );
  api = await ApiClient.start(installation);
  await installation.startWorker();
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

async function accountThere(): Promise<Record<string, string>> {
  const page = await (await fetch(`${installation.addresses.crm}/records/${onlyThere}`)).text();
  const fields = [...page.matchAll(/name="accounting\.(\w+)"[^>]*value="([^"]*)"/g)];
  return Object.fromEntries(fields.map(([, name = '', value = '']) => [name, value]));
}

const unacknowledged = async () =>
  ((await api.as('viewer', 'GET', '/api/knots/customers/accounts')).json() as Accounts).members.find(
    ({ member }) => member === 'shop',
  )?.unacknowledged;
const listed = async () =>
  (
    (
      await api.as('viewer', 'GET', '/api/knots/customers/records?member=shop&list=unacknowledged')
    ).json() as ListedRecords
  ).records;

test('what was created is awaited, told so with its key and page, and listed; later it is late', async () => {
  await installation.run();
  const [waiting] = await listed();
  expect(await unacknowledged()).toEqual({ count: 1, late: 0 });
  expect(waiting?.why).toMatch(/has not acknowledged it yet/);
  const { state, message, number, page, toldAt } = await accountThere();
  expect({ state, message, number }).toEqual({
    state: 'Waits',
    message: 'not acknowledged yet',
    number: waiting?.key,
  });
  expect(page).toBe(`${installation.addresses.shop}/records/${waiting?.key}`);
  expect(Date.now() - Date.parse(toldAt ?? '')).toBeLessThan(600_000);
  const view = (await api.as('viewer', 'GET', `/api/anchors/${waiting?.anchor}`)).json() as AnchorView;
  expect(view.members).toMatchObject([
    { id: 'crm', told: [{ of: 'shop', state: 'pending', words: 'not acknowledged yet', refused: null }] },
    { id: 'shop', unacknowledgedSince: expect.any(String) },
  ]);
  expect(view.journal.filter(({ kind }) => kind === 'write back')).toHaveLength(1);
  await installation.parts.data.query(`update tie set unacknowledged_since = now() - interval '6 minutes'
    where unacknowledged_since is not null`);
  expect(await unacknowledged()).toEqual({ count: 1, late: 1 });
  expect((await listed())[0]?.why).toMatch(/within 5 min: it is late/);
  await installation.parts.notices.find(() => new Date());
  const { notices } = (await api.as('viewer', 'GET', '/api/notices')).json() as NoticeList;
  expect(notices.filter(({ topic }) => topic === 'not acknowledged')).toMatchObject([
    {
      words: 'Customers: Market Row has not acknowledged 1 record for longer than 5 min.',
      path: '/knots/customers/records?member=shop&list=unacknowledged',
      overAt: null,
    },
  ]);
});

test('a record that was there on both sides is told nothing; what a run tells is counted and shown', async () => {
  const before = await installation.run('run', { full: true });
  expect(before.progress?.tally.crm).toMatchObject({ 'write back': 0, update: 0, written: 0 });
  await editOnPage(installation.addresses.crm, onlyThere, { 'accounting.state': 'Ready' });
  const run = await installation.run();
  expect(run.progress?.tally.crm).toMatchObject({ 'write back': 1, update: 0, written: 1 });
  const shown = await api.as('viewer', 'GET', `/api/runs/${run.id}/operations?kind=write%20back`);
  expect((shown.json() as OperationList).operations).toMatchObject([
    { member: 'crm', key: onlyThere, state: 'written', changes: expect.arrayContaining([expect.anything()]) },
  ]);
  expect((await accountThere()).state).toBe('Waits');
});

test('where it may not be told, a decision says so; tried again it is counted, until it is told', async () => {
  isLocked = true;
  await editOnPage(installation.addresses.crm, onlyThere, { 'accounting.state': 'Ready' });
  await installation.run();
  const refusal = async () => (await installation.decisions()).find(({ kind }) => kind === 'refused');
  const attempts = async () => ((await api.as('viewer', 'GET', '/api/repair')).json() as Repair).groups[0]?.attempts;
  const tryAgain = async () => {
    const { id = '', fingerprint = '' } = (await refusal()) ?? {};
    const choice = { choose: 'try again', fingerprint };
    expect((await api.as('operator', 'POST', `/api/knots/customers/decisions/${id}`, choice)).statusCode).toBe(200);
    await installation.run();
  };
  expect((await refusal())?.says).toMatch(
    /^Fernhill CRM refused what it was told of other systems: .*accounting is locked/,
  );
  // A run that only says it again tries nothing.
  await installation.run();
  expect([await attempts(), (await accountThere()).state]).toEqual([1, 'Ready']);
  await tryAgain();
  expect([await attempts(), (await accountThere()).state]).toEqual([2, 'Ready']);
  isLocked = false;
  await tryAgain();
  expect([await refusal(), (await accountThere()).state]).toEqual([undefined, 'Waits']);
});
