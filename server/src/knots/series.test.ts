/** Series over the API, and a run that gives their numbers, with real systems and a real database. */
import type {
  AnchorList,
  AnchorView,
  DecisionList,
  GivenNumbers,
  KeepSeries,
  SeriesView,
} from '@anchor-knot/contracts';
import type { Knot, Mapping, Member } from '@anchor-knot/core';
import { generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { systemClock } from '../worker/systemClock.js';

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
  const customers = generateCustomers({ seed: 5, inBoth: 6, onlyCrm: 2, onlyShop: 0, mess: false });
  installation = await RealInstallation.start(database, customers);
  await installation.startWorker();
  api = await ApiClient.start(installation);
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

const series = { name: 'Customer numbers', prefix: 'HG-', digits: 3, yearly: false, zone: 'Europe/London' };
const put = (more: Partial<KeepSeries>, id = 'customers') =>
  api.as('editor', 'PUT', `/api/series/${id}`, { series, revision: 0, ...more });
const says = async (more: Partial<KeepSeries>): Promise<unknown> => {
  const answer = await put(more);
  return [answer.statusCode, (answer.json() as { says: string }).says];
};
const view = async (): Promise<SeriesView | undefined> =>
  ((await api.as('viewer', 'GET', '/api/series')).json() as { series: SeriesView[] }).series[0];
const numbers = async (query = ''): Promise<GivenNumbers> =>
  (await api.as('viewer', 'GET', `/api/series/customers/numbers${query}`)).json() as GivenNumbers;

const toAccounting: Mapping = {
  ...{ field: 'accounting.number', direction: 'both ways', steps: [] },
  ...{ absentMeansBlank: true, blankAs: 'null', drift: 'put back' },
};
const numbered: Knot = {
  ...demoKnot,
  fields: [
    ...demoKnot.fields,
    {
      ...{ id: 'customerNumber', name: 'Customer number', type: 'text', series: 'customers' },
      rule: { steps: [{ step: 'ask' }] },
      mappings: { crm: toAccounting },
    },
  ],
};

/** What the CRM holds. */
async function held(): Promise<readonly unknown[]> {
  const { anchors } = (await api.as('viewer', 'GET', '/api/knots/customers/anchors')).json() as AnchorList;
  const views = await Promise.all(
    anchors.map(async ({ id }) => (await api.as('viewer', 'GET', `/api/anchors/${id}`)).json() as AnchorView),
  );
  const cells = views.map(({ fields }) => fields.find(({ id }) => id === 'customerNumber')?.cells.crm);
  return cells.map((cell) => cell?.raw ?? null).sort();
}
async function addAccounts(...names: string[]): Promise<void> {
  const crm = numbered.members.find(({ id }) => id === 'crm') as Member;
  const connector = await installation.parts.systems.connect(crm, systemClock);
  const fields = (name: string) =>
    new Map([
      ['name', name],
      ['contact.email', `${name}@quince.example`],
    ]);
  await connector.write(names.map((name) => ({ kind: 'create', idempotencyKey: name, fields: fields(name) })));
  await connector.close();
}

test('a series is made, used, looked at and kept; what is wrong with one is said', async () => {
  const putInForce = () =>
    api.as('editor', 'PUT', '/api/knots/customers/definition', { definition: numbered, basedOn: 1 });
  const refused = await putInForce();
  expect([refused.statusCode, (refused.json() as { problems: unknown[] }).problems]).toEqual([
    422,
    [
      {
        at: 'fields.customerNumber.series',
        says: 'there is no series “customers” here: choose one, or make it',
      },
    ],
  ]);
  expect((await put({ series: { ...series, zone: 'Hazelmoor' } })).statusCode).toBe(400);
  expect((await put({ series: { ...series, digits: 40 } })).statusCode).toBe(400);
  expect((await put({ series: { ...series, prefix: 'a\u0000' } })).statusCode).toBe(400);
  expect(await says({ next: 1000 })).toEqual([409, 'With so few digits the last number is 999.']);
  expect(await view()).toBeUndefined();
  expect((await put({ next: 41 })).json()).toEqual({ revision: 1 });
  expect(await says({})).toEqual([409, 'Somebody else changed it meanwhile.']);
  expect((await putInForce()).statusCode).toBe(200);

  await installation.run('dry run');
  expect(await view()).toMatchObject({ next: 41, nextText: 'HG-041', given: 0 });
  // What a run took that a guard stopped is taken again by the next.
  expect((await installation.run('run')).state).toBe('stopped by a guard');
  expect(await view()).toMatchObject({ nextText: 'HG-041', given: 0 });
  await installation.run('run', { overGuards: true });
  expect(await held()).toEqual(['HG-041', 'HG-042', 'HG-043', 'HG-044', 'HG-045', 'HG-046', 'HG-047', 'HG-048']);
  expect(await view()).toMatchObject({
    ...{ next: 49, given: 8, revision: 1 },
    usedBy: [{ knot: 'customers', knotName: 'Customers', field: 'customerNumber', fieldName: 'Customer number' }],
  });
  const { given, total, gaps, gapTotal } = await numbers();
  expect([given.length, total, given[0]?.text, given[0]?.thing?.title]).toEqual([8, 8, 'HG-048', expect.any(String)]);
  expect([gaps, gapTotal]).toEqual([[{ from: 'HG-001', to: 'HG-040', count: 40 }], 40]);
  expect((await numbers('?search=hg-043')).given.map(({ text }) => text)).toEqual(['HG-043']);

  expect(await says({ revision: 1, next: 48 })).toEqual([
    409,
    'Number 48 was given already: the next one must be above it.',
  ]);
  expect((await put({ revision: 1, next: 60 })).statusCode).toBe(200);
  expect((await numbers()).gaps.map(({ from, to }) => [from, to])).toEqual([
    ['HG-049', 'HG-059'],
    ['HG-001', 'HG-040'],
  ]);
  const gone = await api.as('editor', 'DELETE', '/api/series/customers');
  expect([gone.statusCode, (gone.json() as { says: string }).says]).toEqual([
    409,
    'Customer number of Customers takes its numbers from it.',
  ]);
  await put({}, 'other');
  expect((await api.as('editor', 'DELETE', '/api/series/other')).statusCode).toBe(200);
  expect((await api.as('editor', 'DELETE', '/api/series/other')).statusCode).toBe(404);
}, 60_000);

test('at its last number a series says so at the thing that lacks one, and goes on with more digits', async () => {
  const { revision } = (await view()) as SeriesView;
  expect((await put({ series: { ...series, digits: 2 }, revision, next: 99 })).statusCode).toBe(200);
  await addAccounts('Bramble', 'Thistle');
  await installation.run('run');
  expect((await held()).filter((number) => number === 'HG-99')).toHaveLength(1);
  expect(await view()).toMatchObject({ nextText: null, given: 9 });
  const { decisions } = (await api.as('viewer', 'GET', '/api/decisions?kind=unwritable')).json() as DecisionList;
  expect(decisions.map(({ says: words }) => words)).toEqual([
    'Customer number cannot be written to Fernhill CRM: its series is at its last number: give ' +
      'that more digits, under Tables. Change the value, or the translation.',
  ]);
  expect((await put({ series, revision: revision + 1 })).statusCode).toBe(200);
  await installation.run('run');
  expect((await held()).filter((number) => number === 'HG-100')).toHaveLength(1);
  expect((await installation.decisions()).filter(({ kind }) => kind === 'unwritable')).toEqual([]);
}, 60_000);
