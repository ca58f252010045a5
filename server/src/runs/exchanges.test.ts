/** The calls of a run, kept where somebody looks into them: what is secret or sensitive is in none of them. */
import type { ExchangeList } from '@anchor-knot/contracts';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { dropOldExchanges } from '../persistence/tables/exchanges.js';
import { withoutQuery, withoutSecret, withoutSensitive } from './strikeOut.js';

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
  const data = generateCustomers({ seed: 9, inBoth: 2, onlyCrm: 0, onlyShop: 0, mess: false });
  installation = await RealInstallation.start(database, data);
  await installation.startWorker();
  api = await ApiClient.start(installation);
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

const keep = async (runs: number) => {
  const answer = await api.as('operator', 'PUT', '/api/knots/customers/detail', { runs });
  return answer.statusCode;
};
const callsOf = async (run: string): Promise<ExchangeList> =>
  (await api.as('operator', 'GET', `/api/runs/${run}/exchanges`)).json() as ExchangeList;

test('of as many runs as were asked for each call is kept for a day, without what is secret or sensitive', async () => {
  const fields = demoKnot.fields.map((field) => (field.id === 'phone' ? { ...field, sensitive: true } : field));
  const change = { definition: { ...demoKnot, fields }, basedOn: 1, draft: 0, note: '' };
  await installation.parts.knots.change(change, 'test');
  const before = await installation.run();
  expect(await callsOf(before.id)).toEqual({ exchanges: [], next: null, leftOut: null, nextRuns: 0 });

  expect([await keep(51), await keep(1)]).toEqual([400, 204]);
  await editOnPage(installation.addresses.crm, 'A-20001', {
    'contact.phone': '01632 960777',
    'address.town': 'Thornquay',
  });
  const { id } = await installation.run('run', { overGuards: true });
  const { exchanges, leftOut, nextRuns } = await callsOf(id);
  expect([leftOut, nextRuns]).toEqual([0, 0]);
  const written = exchanges.find(({ member, method }) => member === 'shop' && method === 'PUT');
  expect(written).toMatchObject({ status: 200, trouble: null, target: '/shop/v1/shoppers/77001' });
  expect(written?.sent).toContain('Thornquay');
  expect(written?.sent).toContain('"tel":"(sensitive)"');
  const all = JSON.stringify(exchanges);
  expect(all).not.toContain('960777');
  const secrets = (await installation.parts.systems.all()).map(
    (row) => installation.parts.systems.dependencies(row).credential?.secret,
  );
  expect(secrets.filter(Boolean).length).toBeGreaterThan(0);
  for (const secret of secrets) expect(all.includes(secret ?? 'no secret')).toBe(false);

  const after = await installation.run();
  expect((await callsOf(after.id)).leftOut).toBeNull();
  await installation.parts.data.query(`update exchange set at = at - interval '25 hours'`);
  await dropOldExchanges(installation.parts.data, 24);
  expect(await callsOf(id)).toMatchObject({ exchanges: [], leftOut: 0 });
});

test('a call that nobody answers is kept with its trouble', async () => {
  await keep(1);
  await installation.faults('crm', { delayMs: 0, refuseSignIn: true });
  const { id } = await installation.run();
  await installation.faults('crm', {});
  const { exchanges } = await callsOf(id);
  expect(exchanges.some(({ member }) => member === 'shop')).toBe(true);
});

test.each([
  [
    'a secret as it is, in an address, and in JSON',
    withoutSecret('k"1/x k%221%2Fx k\\"1/x', 'k"1/x'),
    '(secret) (secret) (secret)',
  ],
  ['a secret too short to be told from anything', withoutSecret('a cat', 'a'), 'a cat'],
  [
    'members of a record, however deep',
    withoutSensitive('[{"a":{"tel":1,"b":[{"tel":{"x":2}}]}}]', new Set(['tel'])),
    '[{"a":{"tel":"(sensitive)","b":[{"tel":"(sensitive)"}]}}]',
  ],
  ['what is no JSON, all of it', withoutSensitive('tel=1', new Set(['tel'])).slice(0, 10), '(not shown'],
  ['nothing where nothing is sensitive', withoutSensitive('tel=1', new Set()), 'tel=1'],
  ['values that are sought', withoutQuery('/a?tel=01632&page=2', new Set(['tel'])), '/a?tel=…&page=…'],
])('it is struck out: %s', (_, struck, expected) => {
  expect(struck).toBe(expected);
});
