/**
 * What is wrong with a system, or with what it gave, waits for a person until it is right or was seen: no run forgets
 * it. Real files, real systems, a real database, the API.
 */
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as wait } from 'node:timers/promises';
import {
  type DecidedMany,
  type Decision,
  type DecisionList,
  knotDraftSchema,
  type ObjectView,
} from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const data = generateCustomers({ seed: 5, inBoth: 8, onlyCrm: 0, onlyShop: 0, mess: false });
const leads = knotDraftSchema.parse({
  id: 'leads',
  name: 'Leads',
  thing: 'lead',
  titleField: 'email',
  members: [
    { id: 'crm', system: 'fernhill', object: 'accounts', startsAnchors: true, may: { create: false, update: false } },
    { id: 'bay', system: 'bay', object: 'leads', startsAnchors: false, may: { create: false, update: false } },
  ],
  fields: [
    {
      id: 'email',
      name: 'Email',
      type: 'email',
      rule: { steps: [{ step: 'ask' }] },
      mappings: {
        crm: { field: 'contact.email', direction: 'from' },
        bay: { field: 'email', direction: 'from' },
      },
    },
  ],
  keyRules: [{ name: 'Email', fields: [{ field: 'email', normalise: 'email' }] }],
}) as Knot;

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
let folder: string;

beforeAll(async () => {
  database = await TestDatabase.start();
  folder = mkdtempSync(join(tmpdir(), 'anchor-knot-deliveries-'));
  installation = await RealInstallation.start(database, data);
  await installation.parts.systems.save({
    id: 'bay',
    description: {
      kind: 'files',
      name: 'Loading Bay',
      folder,
      objects: {
        leads: {
          path: 'leads-*.csv',
          format: 'csv',
          key: 'email',
          delimiter: ',',
          quote: '"',
          encoding: 'utf-8',
          holds: 'deliveries',
        },
      },
    },
    pennant: { pattern: 'quarters', colour: 'brass', letters: 'LB' },
  });
  await installation.parts.knots.create(leads, 'test');
  await installation.startWorker();
  api = await ApiClient.start(installation);
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
  rmSync(folder, { recursive: true, force: true });
});

const get = async <T>(path: string): Promise<T> => (await api.as('operator', 'GET', path)).json() as T;
const post = async <T>(path: string, body: object): Promise<T> =>
  (await api.as('operator', 'POST', path, body)).json() as T;
const list = async (query: string): Promise<Decision[]> =>
  (await get<DecisionList>(`/api/decisions?${query}`)).decisions;
const subjects = async (query: string): Promise<string[]> => (await list(query)).map(({ subject }) => subject);
/** A file that nobody touches any more. */
async function deliver(name: string, text: string | Buffer): Promise<void> {
  writeFileSync(join(folder, name), text);
  await wait(1200);
}

describe('what comes in files', () => {
  const unusable = 'knot=leads&kind=unusable';

  test('rows and deliveries that cannot be taken wait with file and line; no run forgets them', async () => {
    await deliver('leads-1.csv', 'email,name\nreed@growers.example,Reed\n,Nobody\nsedge@growers.example,Sedge\n');
    await deliver('leads-2.csv', 'name\nno key here\n');
    await installation.run('run', { knot: 'leads' });
    expect((await subjects(unusable)).sort()).toEqual(['leads-1.csv: 3 in Loading Bay', 'leads-2.csv in Loading Bay']);
    const [row] = await list(unusable);
    expect(row).toMatchObject({ member: 'bay', detail: { file: 'leads-1.csv', line: 3 } });
    expect(row?.says).toContain('has no value in the key');
    const before = (await list(unusable)).map(({ id }) => id);
    await deliver('leads-3.csv', 'email,name\nmarram@growers.example,Marram\n');
    await installation.run('run', { knot: 'leads' });
    expect((await list(unusable)).map(({ id }) => id)).toEqual(before);
  });

  test('a file that comes again, corrected, settles what was wrong with it; others stay', async () => {
    await deliver('leads-1.csv', 'email,name\nreed@growers.example,Reed\n');
    await installation.run('run', { knot: 'leads' });
    expect(await subjects(unusable)).toEqual(['leads-2.csv in Loading Bay']);
  });

  test('what was seen is not asked again as it is, until it changes; seeing it is taken back', async () => {
    const [seen] = await list(unusable);
    if (!seen) throw new Error('nothing waits');
    const choice = { choose: 'seen', fingerprint: seen.fingerprint };
    await post(`/api/knots/leads/decisions/${seen.id}`, choice);
    expect(await list(unusable)).toEqual([]);
    expect(await post('/api/decisions/undo', { decisions: [{ knot: 'leads', decision: seen.id }] })).toMatchObject({
      done: [seen.id],
    });
    await post(`/api/knots/leads/decisions/${seen.id}`, choice);
    await installation.run('run', { knot: 'leads', full: true });
    expect(await list(unusable)).toEqual([]);
    await deliver('leads-2.csv', Buffer.from([0xff, 0xfe, 0x00, 0xd8]));
    await installation.run('run', { knot: 'leads' });
    expect(await subjects(unusable)).toEqual(['leads-2.csv in Loading Bay']);
  });

  test('what is read whole and no longer wrong closes by itself', async () => {
    rmSync(join(folder, 'leads-2.csv'));
    await installation.run('run', { knot: 'leads' });
    expect(await subjects(unusable)).toHaveLength(1);
    await installation.run('run', { knot: 'leads', full: true });
    expect(await list(unusable)).toEqual([]);
  });
});

test('a system in trouble waits until a run can work with it; a dry run says nothing of it', async () => {
  await installation.faults('shop', { refuseSignIn: true });
  await installation.run('dry run');
  expect(await list('knot=customers&kind=trouble')).toEqual([]);
  await installation.run();
  await installation.run();
  const [trouble, ...more] = await list('knot=customers&kind=trouble');
  expect(more).toEqual([]);
  expect(trouble).toMatchObject({ subject: 'Market Row', member: 'shop' });
  expect(trouble?.says).toMatch(/^Market Row refused the sign-in: .*Check the credential/);
  const answer = await api.as('operator', 'POST', `/api/knots/customers/decisions/${trouble?.id}`, {
    choose: 'seen',
    fingerprint: trouble?.fingerprint,
  });
  expect(answer.statusCode).toBe(422);
  await installation.faults('shop', {});
  await installation.run();
  expect(await list('knot=customers&kind=trouble')).toEqual([]);
});

test('fields that changed in a system are shown to whoever uses them, in each knot that does', async () => {
  await api.as('operator', 'POST', '/api/systems/bay/objects/leads/profile', {});
  await profiled();
  await deliver('leads-4.csv', 'email,town\nheron@growers.example,Marrowby\n');
  await api.as('operator', 'POST', '/api/systems/bay/objects/leads/profile', {});
  await profiled();
  const [changed, ...more] = await list('kind=fields changed');
  expect(more).toEqual([]);
  expect(changed).toMatchObject({ knot: 'leads', subject: 'leads in Loading Bay' });
  expect(changed?.says).toContain('town is new');
});

test('a system that says what fields it has is asked now and then, and each change waits by itself', async () => {
  await deliver('leads-5.csv', 'email,town,county\nrail@growers.example,Marrowby,Fen\n');
  await installation.parts.objects.lookForChanges(60);
  expect(await list('kind=fields changed')).toHaveLength(1);
  await installation.parts.objects.lookForChanges(0);
  await installation.parts.objects.lookForChanges(0);
  const told = (await list('kind=fields changed')).map(({ says }) => says);
  expect(told).toHaveLength(2);
  expect(told.filter((says) => says.includes('changed: county is new (text)'))).toHaveLength(1);
  const { schema } = await get<ObjectView>('/api/systems/bay/objects/leads');
  expect(schema?.fields.map(({ path }) => path)).toEqual(expect.arrayContaining(['county', 'email', 'town']));
  expect(await list('kind=fields changed&knot=customers')).toEqual([]);
});

async function profiled(): Promise<void> {
  for (let tries = 0; tries < 200; tries += 1) {
    const view = await get<{ object: { profile: { state: string } | null } }>('/api/systems/bay/objects/leads');
    if (view.object.profile?.state === 'done') return;
    await wait(50);
  }
  throw new Error('the profile did not end');
}

test('all writes that were refused in the same words are tried again together, and no others', async () => {
  const both = data.truth.flatMap(({ crm, shop }) => (crm[0] && shop[0] ? [crm[0]] : []));
  await installation.run();
  const tooLong = 'x'.repeat(200);
  for (const key of both.slice(0, 3))
    await editOnPage(installation.addresses.crm, key, { 'contact.firstName': tooLong });
  await editOnPage(installation.addresses.crm, both[3] ?? '', { 'contact.lastName': tooLong });
  await installation.run();
  const refused = await list('knot=customers&kind=refused');
  expect(refused).toHaveLength(4);
  const [first] = refused;
  const alike = refused.filter(({ fingerprint }) => fingerprint === first?.fingerprint);
  expect(refused.map((one) => one.alike).sort()).toEqual([1, 3, 3, 3]);
  const outcome = await post<DecidedMany>(`/api/knots/customers/decisions/${first?.id}/alike`, {
    fingerprint: first?.fingerprint,
  });
  expect(outcome.done.sort()).toEqual(alike.map(({ id }) => id).sort());
  expect(await list('knot=customers&kind=refused')).toHaveLength(refused.length - alike.length);
});
