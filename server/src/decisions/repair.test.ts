/** What failed alike is repaired together: in one list, by a file that is corrected and taken in again. */
import { parse } from 'csv-parse/sync';
import type { Repair, TakenIn } from '@anchor-knot/contracts';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const data = generateCustomers({ seed: 5, inBoth: 8, onlyCrm: 0, onlyShop: 0, mess: false });
const accounts = data.accounts.slice(0, 4).map(({ id }) => id);

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
  await installation.run();
  for (const account of accounts)
    await editOnPage(installation.addresses.crm, account, { 'address.country': 'Albion' });
  await installation.run();
});
afterEach(async () => {
  await api.close();
  await installation.stop();
});
afterAll(async () => {
  await database.stop();
});

const groups = async () => ((await api.as('viewer', 'GET', '/api/repair')).json() as Repair).groups;
const group = { knot: 'customers', kind: 'unreadable', member: 'crm', field: 'country', reason: '' };
const queryOf = (more: object = {}) => {
  const reason = 'no country is called “…”';
  return new URLSearchParams({ ...group, reason, ...more } as Record<string, string>).toString();
};
const file = async (more: object = {}) => api.as('operator', 'GET', `/api/repair/file?${queryOf(more)}`);
async function takeIn(text: string, more: object = {}, role: 'operator' | 'viewer' = 'operator') {
  const headers = { ...(await api.once(role)), 'content-type': 'text/csv' };
  const answer = await fetch(`${api.address}/api/repair/file?${queryOf(more)}`, {
    method: 'POST',
    headers,
    body: text,
  });
  return { status: answer.status, body: (await answer.json()) as TakenIn & { says: string } };
}
const countryThere = async (account: string): Promise<string> => {
  const page = await (await fetch(`${installation.addresses.crm}/records/${account}`)).text();
  return /name="address\.country"[^>]*value="([^"]*)"/.exec(page)?.[1] ?? '';
};

test('a group is corrected in a spreadsheet: what can be is written, each other row says why it was not', async () => {
  expect(await groups()).toMatchObject([
    { ...group, reason: 'no country is called “…”', knotName: 'Customers', count: 4, canCorrect: true },
  ]);
  const given = await file();
  const rows = parse(given.body) as string[][];
  expect(rows).toHaveLength(5);
  expect(rows.slice(1).map((row) => row[1])).toEqual(expect.arrayContaining(accounts));
  const [header = [], first = [], second = [], third = [], fourth = []] = rows;
  // One that is right, one that is as wrong as before, one that somebody changed meanwhile, and one that is left.
  const corrected = [header, [...first.slice(0, -1), 'France'], [...second.slice(0, -1), 'Avalon']];
  await editOnPage(installation.addresses.crm, third[1] ?? '', { 'address.country': 'Lyonesse' });
  corrected.push([...third.slice(0, -1), 'Spain'], fourth);
  // As a spreadsheet of another country writes it.
  const quoted = (cell: string): string => `"${cell.replaceAll('"', '""')}"`;
  const text = `\ufeff${corrected.map((row) => row.map(quoted).join(';')).join('\r\n')}`;
  const { status, body } = await takeIn(text);
  expect(status).toBe(200);
  expect(body).toMatchObject({ corrected: 1, untouched: 1 });
  expect(body.refused.toSorted((one, other) => one.row - other.row)).toMatchObject([
    {
      row: 3,
      record: second[1],
      says: expect.stringMatching(/could still not be read: no country is called “Avalon”/),
    },
    { row: 4, record: third[1], says: expect.stringMatching(/has been changed there since the file was made/) },
  ]);
  expect(await countryThere(first[1] ?? '')).toBe('France');
  expect(await countryThere(second[1] ?? '')).toBe('Albion');
  expect(await groups()).toMatchObject([{ count: 3 }]);
  await installation.run();
  // Whatever the country is called there, it fails for the same reason.
  expect((await groups()).map(({ reason, count }) => [reason, count])).toEqual([['no country is called “…”', 3]]);
  // The same file again does nothing more.
  expect((await takeIn(text)).body).toMatchObject({ corrected: 0 });
});

test('a formula in a value stays a text, there and back', async () => {
  const [account = ''] = accounts;
  await editOnPage(installation.addresses.crm, account, { 'address.country': '=1+1' });
  await installation.run();
  const given = await file();
  expect(given.body).toContain(`'=1+1`);
  const text = given.body.replace(/^(.*'=1\+1.*),\s*$/m, '$1,Spain');
  expect((await takeIn(text)).body).toMatchObject({ corrected: 1, refused: [] });
  expect(await countryThere(account)).toBe('Spain');
});

test('what is no such file is refused with words, and nothing is written; so is another group', async () => {
  const given = await file();
  const filled = given.body
    .split('\n')
    .map((line, place) => (place === 0 || line === '' ? line : `${line.trimEnd()}France`))
    .join('\n');
  expect(await takeIn('')).toMatchObject({ status: 422, body: { says: expect.stringMatching(/has no column/) } });
  expect(await takeIn('a,b\n1,2')).toMatchObject({ status: 422 });
  expect((await takeIn('"a,b\n1')).body.says).toMatch(/This is no CSV/);
  expect((await takeIn('\u0000\u0001PK')).status).toBe(422);
  expect((await takeIn(filled, {}, 'viewer')).status).toBe(403);
  expect((await takeIn(filled, { knot: 'moon' })).status).toBe(404);
  expect((await takeIn(filled, { kind: 'refused' })).status).toBe(404);
  const elsewhere = (await takeIn(filled, { member: 'shop' })).body;
  expect([elsewhere.corrected, ...elsewhere.refused.map(({ says }) => says)]).toEqual([
    0,
    ...Array<unknown>(4).fill('It is of another group: take the file in where it came from.'),
  ]);
  expect((await takeIn(filled.replaceAll(/^\d+/gm, '99999999'))).body.refused[0]?.says).toBe(
    'It does not wait any more.',
  );
  await installation.faults('crm', { refuseSignIn: true });
  const refused = await takeIn(filled);
  expect([refused.status === 409 || refused.body.corrected === 0, await countryThere(accounts[0] ?? '')]).toEqual([
    true,
    'Albion',
  ]);
});
