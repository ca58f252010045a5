/** People act while a run writes, on real systems that are slow: their word holds, and nothing is planted. */
import { setTimeout as wait } from 'node:timers/promises';
import type { AnchorView } from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
});
beforeEach(async () => {
  const data = generateCustomers({ seed: 9, inBoth: 4, onlyCrm: 0, onlyShop: 0, mess: false });
  installation = await RealInstallation.start(database, data);
  await installation.startWorker();
  api = await ApiClient.start(installation);
  await installation.run();
});
afterEach(async () => {
  await api.close();
  await installation.stop();
});
afterAll(async () => {
  await database.stop();
});

const anchorOf = async (key: string): Promise<AnchorView | undefined> => {
  const { anchors } = (await api.as('viewer', 'GET', `/api/knots/customers/anchors?search=${key}`)).json() as {
    anchors: { id: string }[];
  };
  return anchors[0] && ((await api.as('viewer', 'GET', `/api/anchors/${anchors[0].id}`)).json() as AnchorView);
};
const keysOf = (view: AnchorView | undefined) => view?.members.map(({ key }) => key);
const agreedOf = (view: AnchorView | undefined, field: string) =>
  view?.fields.find(({ id }) => id === field)?.agreed?.value;

async function someRow(table: string, id?: string): Promise<void> {
  for (let tries = 0; ; tries += 1) {
    const [{ some }] = (await installation.parts.data.query(
      `select exists (select from ${table} where $1::text is null or id::text = $1) as some`,
      [id ?? null],
    )) as [{ some: boolean }];
    if (some) return;
    if (tries > 1000) throw new Error(`nothing came into ${table}`);
    await wait(10);
  }
}

/** Starts a run, and acts when its first writes are on their way to systems that take their time. */
async function runAndMeanwhile(act: () => Promise<void>): Promise<void> {
  const id = await installation.ask('run', { full: true });
  await someRow('write_intent');
  await act();
  const [{ ended }] = (await installation.parts.data.query(
    'select ended_at is not null as ended from run where id = $1',
    [id],
  )) as [{ ended: boolean }];
  expect(ended).toBe(false);
  await installation.ended(id);
}
const slow = () => installation.faults('shop', { delayMs: 1200 });
const quick = () => installation.faults('shop', {});

test('a held field is settled while the same record is written: the choice stays, and is written next', async () => {
  await editOnPage(installation.addresses.crm, 'A-20001', { 'contact.phone': '01632 960001' });
  await editOnPage(installation.addresses.shop, '77001', { tel: '01632 960002' });
  await installation.run();
  const [held] = await installation.decisions();
  expect(held).toMatchObject({ kind: 'held' });
  await editOnPage(installation.addresses.crm, 'A-20001', { 'address.town': 'Thornquay' });
  await slow();
  await runAndMeanwhile(async () => {
    const answer = await api.as('operator', 'POST', `/api/knots/customers/decisions/${held?.id}`, {
      choose: 'value',
      value: '+441632960002',
      fingerprint: held?.fingerprint,
    });
    expect(answer.statusCode).toBe(200);
  });
  await quick();
  expect(await installation.decisions()).toEqual([]);
  expect(agreedOf(await anchorOf('77001'), 'phone')).toBe('+441632960002');
  await installation.run();
  expect(await (await fetch(`${installation.addresses.crm}/records/A-20001`)).text()).toMatch(/1632 ?960 ?002/);
  expect(await (await fetch(`${installation.addresses.shop}/records/77001`)).text()).toContain('Thornquay');
  expect(await installation.decisions()).toEqual([]);
});

test(
  'a record that is untied while it is written stays untied, and is tied again by hand while ' + 'a run writes',
  async () => {
    await editOnPage(installation.addresses.crm, 'A-20001', { 'address.town': 'Thornquay' });
    await slow();
    const { id } = (await anchorOf('77001')) as AnchorView;
    await runAndMeanwhile(async () => {
      const answer = await api.as('operator', 'POST', `/api/anchors/${id}/regroup`, {
        kind: 'split',
        members: ['shop'],
      });
      expect(answer.statusCode).toBe(200);
    });
    expect(keysOf(await anchorOf('A-20001'))).toEqual(['A-20001', null]);
    const [outside] = (await installation.parts.data.query(
      `select record_key from outside_record where member = 'shop'`,
    )) as { record_key: string }[];
    expect(outside?.record_key).toBe('77001');
    await editOnPage(installation.addresses.crm, 'A-20002', { 'address.town': 'Ashcombe' });
    await runAndMeanwhile(async () => {
      const answer = await api.as('operator', 'POST', `/api/anchors/${id}/tie`, { member: 'shop', key: '77001' });
      expect([200, 409]).toContain(answer.statusCode);
    });
    await quick();
    await installation.run();
    // It is tied to one anchor, whoever came first: the person, or the run that found that it is a thing of its own.
    const ties = (await installation.parts.data.query(
      `select anchor_id from tie where member = 'shop' and record_key = '77001' and not gone`,
    )) as unknown[];
    expect(ties).toHaveLength(1);
  },
);

test('a version that is put in force while a run writes waits for its end, and nothing looks edited', async () => {
  await editOnPage(installation.addresses.crm, 'A-20001', { 'address.town': 'Thornquay' });
  await slow();
  const changed = structuredClone(demoKnot) as { -readonly [Part in keyof Knot]: Knot[Part] };
  // The shop's town is read from another field from now on.
  changed.fields = changed.fields.map((field) => {
    const { shop } = field.mappings;
    return field.id === 'town' && shop
      ? { ...field, mappings: { ...field.mappings, shop: { ...shop, field: 'region' } } }
      : field;
  });
  await runAndMeanwhile(async () => {
    const answer = await api.as('editor', 'PUT', '/api/knots/customers/definition', {
      definition: changed,
      basedOn: 1,
      draft: 0,
      note: 'another field',
    });
    expect([answer.statusCode, answer.json()]).toEqual([200, { version: 2, waits: true }]);
    expect((await installation.parts.knots.inForce('customers'))?.version).toBe(1);
  });
  await quick();
  expect((await installation.parts.knots.inForce('customers'))?.version).toBe(2);
  await installation.run();
  const lost = (await installation.parts.data.query(`select field, meaning from journal where kind = 'lost'`)) as [];
  expect(lost).toEqual([]);
  expect(agreedOf(await anchorOf('77001'), 'town')).toBe('Thornquay');
});

test('a dry run that waits swallows no run, and each is found under the id that was given', async () => {
  await slow();
  await editOnPage(installation.addresses.crm, 'A-20001', { 'address.town': 'Thornquay' });
  const send = (kind: 'run' | 'dry run', full = false) => installation.ask(kind, { full });
  const first = await send('run');
  // Until it has begun, another one would join it.
  await someRow('run', first);
  const dry = await send('dry run');
  const waiting = await send('run');
  const joined = await send('run', true);
  await quick();
  for (const id of [first, dry, waiting]) expect((await installation.ended(id)).endedAt).not.toBeNull();
  expect(new Set([first, dry, waiting]).size).toBe(3);
  expect([first, waiting]).toContain(joined);
});
