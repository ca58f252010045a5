/** Ties that a person makes and takes apart, on real systems and a real database. */
import type { AnchorView, Forecast, ForecastRequest, VerdictList } from '@anchor-knot/contracts';
import { generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(
    database,
    generateCustomers({ seed: 9, inBoth: 4, onlyCrm: 0, onlyShop: 0, mess: false }),
  );
  await installation.startWorker();
  api = await ApiClient.start(installation);
  await installation.run();
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

const anchorOf = async (key: string): Promise<AnchorView | undefined> => {
  const { anchors } = (await api.as('viewer', 'GET', `/api/knots/customers/anchors?search=${key}`)).json() as {
    anchors: { id: string }[];
  };
  return anchors[0] && ((await api.as('viewer', 'GET', `/api/anchors/${anchors[0].id}`)).json() as AnchorView);
};
const keys = ({ members }: AnchorView) => members.map(({ key }) => key);
const hand = async (what: 'tie' | 'regroup', anchor: string, body: object) => {
  const { statusCode, json } = await api.as('operator', 'POST', `/api/anchors/${anchor}/${what}`, body);
  return [statusCode, (json() as { says?: string }).says];
};
const split = (anchor: string, ...members: string[]) => hand('regroup', anchor, { kind: 'split', members });
/** What is said that the next run would do. */
const forecast = async (anchor: string, body: ForecastRequest): Promise<Forecast['anchors']> =>
  ((await api.as('viewer', 'POST', `/api/anchors/${anchor}/forecast`, body)).json() as Forecast).anchors;
const writes = (anchors: Forecast['anchors']) =>
  anchors.map(({ records, operations }) => [
    records.map(({ key }) => key),
    operations.map(({ member, kind }) => `${kind} in ${member}`),
  ]);
const total = async (which: 'crm' | 'shop'): Promise<number> =>
  [...(await (await fetch(installation.addresses[which])).text()).matchAll(/href="\/records\//g)].length;

test(
  'a record is untied, and tied again before the next run: nothing is written, and the ' + 'history says who',
  async () => {
    const before = (await anchorOf('77001')) as AnchorView;
    expect(keys(before)).toEqual(['A-20001', '77001']);
    expect(writes(await forecast(before.id, { kind: 'split', members: ['shop'] }))).toEqual([
      [['A-20001'], ['create in shop']],
      [['77001'], ['create in crm']],
    ]);
    expect(await split(before.id, 'shop')).toEqual([200, undefined]);
    expect(await anchorOf('77001')).toBeUndefined();
    for (const member of ['shop', 'crm'])
      expect(await split(before.id, member)).toEqual([409, expect.stringContaining('Nothing would be left')]);
    expect(await hand('tie', before.id, { member: 'shop', key: ' 77001 ' })).toEqual([200, undefined]);
    const run = await installation.run();
    expect(run.progress?.tally).toMatchObject({ crm: { create: 0, update: 0 }, shop: { create: 0, update: 0 } });
    const after = (await anchorOf('77001')) as AnchorView;
    expect([
      keys(after),
      after.agrees,
      after.journal
        .slice(0, 2)
        .map((entry) => [entry.kind, 'cause' in entry && entry.cause?.kind === 'person' ? entry.cause.name : null]),
    ]).toEqual([
      ['A-20001', '77001'],
      true,
      [
        ['tied', 'operator'],
        ['untied', 'operator'],
      ],
    ]);
  },
);

test(
  'a record that stays untied is a thing of its own, whatever its keys say, and both are made whole as ' +
    'was said before',
  async () => {
    const { id } = (await anchorOf('77002')) as AnchorView;
    await split(id, 'shop');
    await installation.run();
    const own = (await anchorOf('77002')) as AnchorView;
    expect(own.id).not.toBe(id);
    expect([await total('crm'), await total('shop')]).toEqual([5, 5]);
    await installation.run();
    expect([await total('crm'), await total('shop')]).toEqual([5, 5]);
    expect(await hand('tie', id, { member: 'shop', key: '77002' })).toEqual([
      409,
      expect.stringContaining('is tied to record'),
    ]);
  },
);

test('what cannot be tied says why: a record of another anchor, or one that is not there', async () => {
  const { id } = (await anchorOf('77003')) as AnchorView;
  await split(id, 'shop');
  expect(await hand('tie', id, { member: 'shop', key: '77004' })).toEqual([
    409,
    expect.stringMatching(/Record 77004 is tied to “.+”/),
  ]);
  expect(await hand('tie', id, { member: 'shop', key: '99999' })).toEqual([
    409,
    'There is no record 99999 in that system.',
  ]);
  expect(await hand('tie', id, { member: 'nobody', key: '1' })).toEqual([404, 'There is no such member.']);
  expect((await hand('tie', id, { member: 'shop', key: ' ' }))[0]).toBe(400);
  expect(await hand('tie', id, { member: 'shop', key: '77003' })).toEqual([200, undefined]);
});

test('two things that have a record in the same system cannot be merged, nor one with itself', async () => {
  const [own, other] = [(await anchorOf('77002')) as AnchorView, (await anchorOf('A-20002')) as AnchorView];
  expect(await hand('regroup', other.id, { kind: 'merge', with: own.id })).toEqual([
    409,
    expect.stringMatching(/Both have a record in Fernhill CRM and Market Row/),
  ]);
  expect(await hand('regroup', other.id, { kind: 'merge', with: other.id })).toEqual([
    404,
    expect.stringContaining('no other anchor'),
  ]);
  expect(await hand('regroup', other.id, { kind: 'split', members: ['crm', 'shop'] })).toEqual([
    409,
    expect.stringContaining('Nothing would be left'),
  ]);
});

test('what a person does by hand is kept as a verdict, listed with who and when, and can be taken back', async () => {
  const list = async () => (await api.as('viewer', 'GET', '/api/knots/customers/verdicts')).json() as VerdictList;
  const { verdicts } = await list();
  expect(verdicts.length).toBeGreaterThan(1);
  expect(verdicts.every(({ person }) => person === 'operator')).toBe(true);
  const [last] = verdicts;
  expect((await api.as('operator', 'DELETE', `/api/knots/customers/verdicts/${last?.id}`)).statusCode).toBe(204);
  expect((await api.as('operator', 'DELETE', `/api/knots/customers/verdicts/${last?.id}`)).statusCode).toBe(404);
  expect((await list()).verdicts.map(({ id }) => id)).toEqual(verdicts.slice(1).map(({ id }) => id));
});
