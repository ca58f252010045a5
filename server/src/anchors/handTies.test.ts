/** Ties that a person makes and takes apart, on real systems and a real database. */
import type { AnchorView } from '@anchor-knot/contracts';
import { generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(database, generateCustomers({ seed: 9, inBoth: 4, onlyCrm: 0, onlyShop: 0, mess: false }));
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
  const { anchors } = (await api.as('viewer', 'GET', `/api/knots/customers/anchors?search=${key}`)).json() as { anchors: { id: string }[] };
  return anchors[0] && ((await api.as('viewer', 'GET', `/api/anchors/${anchors[0].id}`)).json() as AnchorView);
};
const keys = ({ members }: AnchorView) => members.map(({ key }) => key);
const hand = async (what: 'tie' | 'untie', anchor: string, body: object) => {
  const { statusCode, json } = await api.as('operator', 'POST', `/api/anchors/${anchor}/${what}`, body);
  return [statusCode, (json() as { says?: string }).says];
};
const total = async (which: 'crm' | 'shop'): Promise<number> => [...(await (await fetch(installation.addresses[which])).text()).matchAll(/href="\/records\//g)].length;

test('a record is untied, and tied again before the next run: nothing is written, and the history says who', async () => {
  const before = (await anchorOf('77001')) as AnchorView;
  expect(keys(before)).toEqual(['A-20001', '77001']);
  expect(before.members[1]?.untying).toEqual({ createsHere: true, starts: true, createsIn: ['crm'] });
  expect(await hand('untie', before.id, { member: 'shop' })).toEqual([200, undefined]);
  expect(await anchorOf('77001')).toBeUndefined();
  expect(await hand('untie', before.id, { member: 'shop' })).toEqual([404, expect.stringContaining('no such tie')]);
  expect(await hand('untie', before.id, { member: 'crm' })).toEqual([409, expect.stringContaining('the only record')]);
  expect(await hand('tie', before.id, { member: 'shop', key: ' 77001 ' })).toEqual([200, undefined]);
  const run = await installation.run();
  expect(run.progress?.tally).toMatchObject({ crm: { create: 0, update: 0 }, shop: { create: 0, update: 0 } });
  const after = (await anchorOf('77001')) as AnchorView;
  expect([keys(after), after.agrees, after.journal.slice(0, 2).map(({ kind, cause }) => [kind, (cause as { name?: string }).name])]).toEqual([
    ['A-20001', '77001'],
    true,
    [
      ['tied', 'operator'],
      ['untied', 'operator'],
    ],
  ]);
});

test('a record that stays untied is a thing of its own, whatever its keys say, and both are made whole as was said before', async () => {
  const { id } = (await anchorOf('77002')) as AnchorView;
  await hand('untie', id, { member: 'shop' });
  await installation.run();
  const own = (await anchorOf('77002')) as AnchorView;
  expect(own.id).not.toBe(id);
  expect([await total('crm'), await total('shop')]).toEqual([5, 5]);
  await installation.run();
  expect([await total('crm'), await total('shop')]).toEqual([5, 5]);
  expect(await hand('tie', id, { member: 'shop', key: '77002' })).toEqual([409, expect.stringContaining('is tied to record')]);
});

test('what cannot be tied says why: a record of another anchor, one that is not there, a run that is under way', async () => {
  const { id } = (await anchorOf('77003')) as AnchorView;
  await hand('untie', id, { member: 'shop' });
  expect(await hand('tie', id, { member: 'shop', key: '77004' })).toEqual([409, expect.stringMatching(/Record 77004 is tied to “.+”/)]);
  expect(await hand('tie', id, { member: 'shop', key: '99999' })).toEqual([409, 'There is no record 99999 in that system.']);
  expect(await hand('tie', id, { member: 'nobody', key: '1' })).toEqual([404, 'There is no such member.']);
  expect((await hand('tie', id, { member: 'shop', key: ' ' }))[0]).toBe(400);
  await installation.parts.data.query(
    `insert into run (id, knot_id, knot_version, kind, started_by, started_at, token, lease_until) values (gen_random_uuid(), 'customers', 1, 'run', 'x', now(), 999, now() + interval '1 minute')`,
  );
  expect(await hand('tie', id, { member: 'shop', key: '77003' })).toEqual([409, 'A run of this knot is under way.']);
  await installation.parts.data.query(`delete from run where token = 999`);
  expect(await hand('tie', id, { member: 'shop', key: '77003' })).toEqual([200, undefined]);
});
