/** What Watch counts, on real systems and a real database. */
import type { Watch } from '@anchor-knot/contracts';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
  const data = generateCustomers({ seed: 9, inBoth: 4, onlyCrm: 2, onlyShop: 0, mess: false });
  installation = await RealInstallation.start(database, data);
  await installation.startWorker();
  api = await ApiClient.start(installation);
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

const watch = async (): Promise<Watch> => (await api.as('viewer', 'GET', '/api/watch')).json() as Watch;

test('Watch says how many things agree, what was written in the last hours, and what waits', async () => {
  const before = await watch();
  expect(before.knots).toMatchObject([{ anchors: 0, agree: 0, lastRun: null, openRun: null }]);
  expect(before.written).toHaveLength(24);
  expect(before.written.every(({ values }) => values === 0)).toBe(true);

  await installation.run();
  await editOnPage(installation.addresses.crm, 'A-20001', { 'contact.phone': '01632 960001' });
  await editOnPage(installation.addresses.shop, '77001', { tel: '01632 960002' });
  await installation.run();
  const after = await watch();
  expect(after.knots[0]).toMatchObject({ anchors: 6, agree: 5, openRun: null, lastRun: { state: 'succeeded' } });
  expect(after.knots[0]?.members.map(({ id, ties, trouble }) => [id, ties, trouble])).toEqual([
    ['crm', 6, false],
    ['shop', 6, false],
  ]);
  expect(after.waiting).toMatchObject([{ knot: 'customers', kind: 'held', count: 1 }]);
  const [{ count }] = (await installation.parts.data.query(
    `select count(*)::int as count from journal where kind in ('create', 'update')`,
  )) as [{ count: number }];
  // The hour may have turned meanwhile.
  expect(after.written.slice(-2).reduce((sum, { values }) => sum + values, 0)).toBe(count);
  expect(count).toBeGreaterThan(0);
  // Of today, and of a day that begins meanwhile.
  const days = after.days.slice(-2);
  expect(after.days).toHaveLength(30);
  expect(days.reduce((sum, { runs }) => sum + runs, 0)).toBe(2);
  expect(days.reduce((sum, { written }) => sum + written, 0)).toBeGreaterThan(0);
  const hours = after.written.map(({ hour }) => Date.parse(hour));
  expect(hours.slice(1).every((hour, place) => hour - (hours[place] ?? 0) === 3_600_000)).toBe(true);
});
