/** Other programs start a knot: by calls that a client of the specification signs, each at most once. */
import { Webhook } from 'standardwebhooks';
import type { MadeStartCall, Run, StartCall } from '@anchor-knot/contracts';
import { generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const data = generateCustomers({ seed: 5, inBoth: 3, onlyCrm: 0, onlyShop: 0, mess: false });

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
});
beforeEach(async () => {
  installation = await RealInstallation.start(database, data);
  api = await ApiClient.start(installation);
  await installation.startWorker();
});
afterEach(async () => {
  await api.close();
  await installation.stop();
});
afterAll(async () => {
  await database.stop();
});

const make = async (role: 'editor' | 'operator' = 'editor') =>
  api.as(role, 'POST', '/api/knots/customers/start-calls', { name: 'Stock count' });
const list = async (): Promise<StartCall[]> =>
  ((await api.as('operator', 'GET', '/api/knots/customers/start-calls')).json() as { calls: StartCall[] }).calls;
interface Sent {
  readonly body?: string;
  readonly message?: string;
  readonly at?: Date;
  readonly secret?: string;
}
async function call(made: MadeStartCall, { body = '', message = 'm1', at = new Date(), secret }: Sent = {}) {
  const answer = await fetch(`${api.address}/hooks/start/${made.id}`, {
    method: 'POST',
    headers: {
      'content-type': 'application/json',
      'webhook-id': message,
      'webhook-timestamp': String(Math.floor(at.getTime() / 1000)),
      'webhook-signature': new Webhook(secret ?? made.secret).sign(message, at, body),
    },
    body,
  });
  return { status: answer.status, body: (await answer.json()) as { run?: string; says?: string } };
}

test('a signed call starts a run of what it names, once however often it comes; the secret is given once', async () => {
  expect((await make('operator')).statusCode).toBe(403);
  const made = (await make()).json() as MadeStartCall;
  // Nobody has seen yet what this knot does.
  expect((await call(made)).status).toBe(409);
  await installation.run();
  const [first, again] = await Promise.all([call(made, { message: 'm2' }), call(made, { message: 'm2' })]);
  expect([first.status, again.status]).toEqual([202, 202]);
  expect(first.body.run).toBe(again.body.run);
  expect(await installation.ended(first.body.run ?? '')).toMatchObject({ cause: 'call', state: 'succeeded' });
  const key = data.accounts[0]?.id ?? '';
  const named = await call(made, { message: 'm3', body: JSON.stringify({ records: [{ member: 'crm', key }] }) });
  const { progress } = await installation.ended(named.body.run ?? '');
  expect([progress?.tally.crm?.read, progress?.tally.shop?.read]).toEqual([1, 0]);
  const whole = await call(made, { message: 'm4', body: JSON.stringify({ full: true, members: ['shop'] }) });
  expect((await installation.ended(whole.body.run ?? '')).progress?.tally.shop?.read).toBe(3);
  expect(await list()).toMatchObject([{ name: 'Stock count', taken: 3, refused: 0, address: made.address }]);
  expect(JSON.stringify(await list())).not.toContain('whsec_');
  const { runs } = (await api.as('viewer', 'GET', '/api/runs?quiet=true')).json() as { runs: Run[] };
  expect(runs.filter(({ cause }) => cause === 'call')).toHaveLength(3);
});

test('what is not signed, late, of another secret, or asks for what is not there, starts nothing', async () => {
  await installation.run();
  const made = (await make()).json() as MadeStartCall;
  const other = (await make()).json() as MadeStartCall;
  expect((await call(made, { secret: other.secret })).status).toBe(401);
  expect((await call(made, { at: new Date(Date.now() - 6 * 60_000) })).status).toBe(401);
  expect((await fetch(`${api.address}/hooks/start/${made.id}`, { method: 'POST' })).status).toBe(401);
  expect((await call({ ...made, id: '0193a0de-7a11-7c00-8000-000000000001' })).status).toBe(404);
  expect((await call({ ...made, id: 'x' })).status).toBe(404);
  expect((await call(made, { body: 'no JSON' })).body.says).toBeTruthy();
  expect((await call(made, { body: '{"members":["moon"]}' })).body.says).toBe(
    'There is no member moon; there are crm, shop.',
  );
  expect((await call(made, { body: '{"records":[]}' })).status).toBe(409);
  await api.as('editor', 'PUT', '/api/knots/customers/state', { state: 'paused' });
  expect((await call(made)).body.says).toMatch(/paused/);
  expect(await list()).toMatchObject([
    { taken: 0, refused: 3 },
    { taken: 0, refused: 0 },
  ]);
  expect((await api.as('editor', 'DELETE', `/api/knots/customers/start-calls/${made.id}`)).statusCode).toBe(204);
  expect((await call(made)).status).toBe(404);
  const { runs } = (await api.as('viewer', 'GET', '/api/runs?quiet=true')).json() as { runs: Run[] };
  expect(runs.filter(({ cause }) => cause === 'call')).toEqual([]);
});
