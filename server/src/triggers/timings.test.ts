/** Knots that run by themselves: slots, what systems tell, and asking, on a real database and real stand-ins. */
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as wait } from 'node:timers/promises';
import {
  filesSystemSchema,
  type HttpSystem,
  type KnotStanding,
  type Run,
  type TimingView,
  type Watch,
} from '@anchor-knot/contracts';
import type { Mapping, Member, SharedField, Timing } from '@anchor-knot/core';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { openInstallation } from '../installationParts.js';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const data = generateCustomers({ seed: 5, inBoth: 8, onlyCrm: 0, onlyShop: 0, mess: false });
const hourly: Timing = { zone: 'UTC', regular: { kind: 'every', every: 1, unit: 'hours' }, triggers: {} };
const hour = 3_600_000;

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
});
beforeEach(async () => {
  installation = await RealInstallation.start(database, data);
  api = await ApiClient.start(installation);
});
afterEach(async () => {
  await api.close();
  await installation.stop();
});
afterAll(async () => {
  await database.stop();
});

const get = async <T>(path: string): Promise<T> => (await api.as('viewer', 'GET', path)).json() as T;
const view = () => get<TimingView>('/api/knots/customers/timing');
const keep = async (timing: object, revision = 0, role: 'administrator' | 'editor' = 'administrator') =>
  api.as(role, 'PUT', '/api/knots/customers/timing', { timing, revision });
const runs = async (query = ''): Promise<Run[]> =>
  (await get<{ runs: Run[] }>(`/api/runs?knot=customers${query}`)).runs;
async function until(holds: () => Promise<boolean>): Promise<void> {
  for (const end = Date.now() + 30_000; !(await holds()); await wait(50))
    if (Date.now() > end) throw new Error('it did not come to that');
}
const shopPage = async (key: string): Promise<string> =>
  (await fetch(`${installation.addresses.shop}/records/${key}`)).text();
/** The first run, which somebody has to see; and everything that is started by it or waits is over. */
async function begin(): Promise<void> {
  await installation.startWorker();
  await installation.run();
}
const both = data.truth.find(({ crm, shop }) => crm[0] !== undefined && shop[0] !== undefined);
const [account, shopper] = [both?.crm[0] ?? '', both?.shop[0] ?? ''];

test('what a system tells starts a run of what changed there; many edits make few runs', async () => {
  const events = { kind: 'events', otherwiseSeconds: 3600 };
  expect((await keep({ zone: 'UTC', triggers: { crm: events, shop: events } })).statusCode).toBe(200);
  expect((await view()).members.map(({ subscription }) => subscription?.state)).toEqual(['working', 'working']);
  expect((await view()).hasRun).toBe(false);
  await installation.startWorker();
  // Nobody has seen yet what this knot does.
  await editOnPage(installation.addresses.crm, account, { 'address.town': 'Ashcombe' });
  await wait(500);
  expect(await runs('&quiet=true')).toEqual([]);
  await installation.run();
  await editOnPage(installation.addresses.crm, account, { 'address.town': 'Marrowby' });
  await until(async () => (await shopPage(shopper)).includes('Marrowby'));
  const changes = ({ progress }: Run) => Object.values(progress?.tally ?? {}).some(({ update }) => update > 0);
  const told = async () => (await runs()).filter(({ cause, endedAt }) => cause === 'event' && endedAt !== null);
  await until(async () => (await told()).some(changes));
  const [run] = (await told()).filter(changes);
  expect(run).toMatchObject({ startedBy: '', state: 'succeeded' });
  const { inbox } = installation.parts;
  const [subscription] = await inbox.of('fernhill');
  const deliveries = await inbox.deliveries(subscription?.id ?? '');
  expect(deliveries.flatMap((delivery) => delivery.runs)).toContain(run?.id);
  for (let edit = 0; edit < 60; edit += 1)
    await editOnPage(installation.addresses.crm, account, { 'address.town': `Marrowby ${edit}` });
  await until(async () => (await shopPage(shopper)).includes('Marrowby 59'));
  // Our own writes are told of too; what nobody started and finds nothing is not shown.
  await until(async () => (await runs('&quiet=true')).every(({ endedAt }) => endedAt !== null));
  expect((await runs('&quiet=true')).length).toBeLessThan(60);
  expect((await told()).filter((one) => !changes(one))).toEqual([]);
});

test('a slot starts one run however many look after it; what was missed is counted, and made up for once', async () => {
  await begin();
  await installation.parts.timings.keep(await definition(), 0, hourly, 'test', Date.now());
  const due = await dueAt('changes');
  expect(due).toBeGreaterThan(Date.now());
  const others = await Promise.all(
    [1, 2, 3].map(() =>
      openInstallation({
        DATABASE_URL: installation.url,
        SECRET_KEY: installation.key,
        REACHABLE_NETWORKS: ['127.0.0.0/8'],
        FILE_FOLDERS: [],
      }),
    ),
  );
  const now = due + 3 * hour + 1000;
  const counts = await Promise.all(others.map(({ scheduler }) => scheduler.startDue({ now: () => now })));
  for (const parts of others) await parts.close();
  expect(counts.reduce((sum, count) => sum + count, 0)).toBe(1);
  expect(await dueAt('changes')).toBe(due + 4 * hour);
  const scheduled = async () => (await runs('&quiet=true')).filter(({ cause }) => cause === 'schedule');
  await until(async () => (await scheduled()).some(({ state }) => state === 'succeeded'));
  const started = await scheduled();
  expect(started.filter(({ state }) => state !== 'missed')).toHaveLength(1);
  const [missed, ...more] = started.filter(({ state }) => state === 'missed');
  expect(more).toEqual([]);
  expect(missed?.words).toMatch(/^3 runs from .* did not happen: no worker was there. One run makes up for them.$/);
});

test('nothing starts in a pause, which ends when it was said to; what was paused was not missed', async () => {
  await begin();
  await installation.parts.timings.keep(await definition(), 0, hourly, 'test', Date.now());
  const due = await dueAt('changes');
  const resumeAt = due + 5 * hour + hour / 2;
  await api.as('editor', 'PUT', '/api/knots/customers/state', {
    state: 'paused',
    until: new Date(resumeAt).toISOString(),
  });
  expect((await get<{ standing: KnotStanding }>('/api/knots/customers')).standing).toMatchObject({
    state: 'paused',
    until: new Date(resumeAt).toISOString(),
  });
  const { scheduler } = installation.parts;
  for (let slots = 0; slots < 5; slots += 1) await scheduler.startDue({ now: () => due + slots * hour + 1000 });
  expect((await runs('&quiet=true')).map(({ cause }) => cause)).toEqual(['person']);
  await scheduler.startDue({ now: () => due + 6 * hour + 1000 });
  await until(async () => (await runs('&quiet=true')).length === 2);
  expect((await runs('&quiet=true')).map(({ state }) => state)).not.toContain('missed');
});

test('all are paused and taken up together; what somebody had paused before stays so', async () => {
  const { knots } = installation.parts;
  await knots.create({ ...(await definition()), id: 'clients', name: 'Clients' }, 'test');
  await knots.create({ ...(await definition()), id: 'patrons', name: 'Patrons' }, 'test');
  const setAll = async (state: string) => (await api.as('editor', 'PUT', '/api/knot-states', { state })).json();
  const states = async () =>
    (await get<{ knots: { id: string; standing: KnotStanding }[] }>('/api/knots')).knots
      .map(({ id, standing: { state, pausedTogether } }) => `${id} ${state}${pausedTogether ? ', together' : ''}`)
      .sort();
  expect((await api.as('operator', 'PUT', '/api/knot-states', { state: 'paused' })).statusCode).toBe(403);
  await api.as('editor', 'PUT', '/api/knots/clients/state', { state: 'paused' });
  expect(await setAll('paused')).toEqual({ changed: 2 });
  expect(await states()).toEqual(['clients paused', 'customers paused, together', 'patrons paused, together']);
  expect((await api.as('operator', 'POST', '/api/knots/patrons/runs', { kind: 'run' })).statusCode).toBe(409);
  // One that is taken up by itself is not taken up once more.
  await api.as('editor', 'PUT', '/api/knots/patrons/state', { state: 'running' });
  expect(await setAll('running')).toEqual({ changed: 1 });
  expect(await states()).toEqual(['clients paused', 'customers running', 'patrons running']);
});

test('a member is asked when it does not tell, and as soon as it is not heard of any more', async () => {
  await begin();
  const trigger = { kind: 'events', otherwiseSeconds: 60 } as const;
  await keep({ zone: 'UTC', triggers: { crm: trigger, shop: { kind: 'asking', seconds: 60 } } });
  const { scheduler, inbox, systems } = installation.parts;
  const isAsked = async (member: string): Promise<boolean> =>
    (await runs('&quiet=true')).some((run) => run.cause === 'asking' && (run.progress?.tally[member]?.read ?? 0) > 0);
  const now = await dueAt('ask:shop');
  await scheduler.startDue({ now: () => now });
  await until(() => isAsked('shop'));
  expect(await isAsked('crm')).toBe(false);
  const row = await systems.find('fernhill');
  if (row) await inbox.unsubscribe(row, 'accounts');
  await editOnPage(installation.addresses.crm, account, { 'address.town': 'Marrowby' });
  await scheduler.startDue({ now: () => now + 60_000 });
  await until(() => isAsked('crm'));
});

test('what is told in a pause is asked for when it is over, though the system is heard of all the time', async () => {
  await begin();
  await keep({ zone: 'UTC', triggers: { crm: { kind: 'events', otherwiseSeconds: 60 } } });
  const setState = async (state: string) => api.as('editor', 'PUT', '/api/knots/customers/state', { state });
  expect((await setState('paused')).statusCode).toBe(200);
  const heard = async () => (await installation.parts.inbox.of('fernhill'))[0]?.received ?? 0;
  await editOnPage(installation.addresses.crm, account, { 'address.town': 'Marrowby' });
  await until(async () => (await heard()) > 0);
  expect((await setState('running')).statusCode).toBe(200);
  await wait(300);
  expect(await shopPage(shopper)).not.toContain('Marrowby');
  const { scheduler } = installation.parts;
  await scheduler.startDue({ now: () => Date.now() + 61_000 });
  await until(async () => (await shopPage(shopper)).includes('Marrowby'));
});

test('what a system in trouble kept from being done is tried again by itself, later each time', async () => {
  await begin();
  await keep({ ...hourly, triggers: {} });
  const { scheduler, data: database } = installation.parts;
  const retry = async () =>
    ((await database.query('select members, attempts, due_at from retry')) as Retry[])[0] ?? { attempts: 0 };
  const pauseOf = ({ due_at: dueAt }: Partial<Retry>) => Math.round(((dueAt?.getTime() ?? 0) - Date.now()) / 60_000);
  await installation.faults('crm', { errorRate: 1 });
  const { state } = await installation.run();
  expect(state).toBe('succeeded in part');
  expect(await retry()).toMatchObject({ members: ['crm'], attempts: 1 });
  expect(pauseOf(await retry())).toBe(1);
  const tryAgain = async (attempt: number) => {
    const before = (await runs('&quiet=true')).length;
    await scheduler.startDue({ now: () => Date.now() + 59_000 });
    expect((await runs('&quiet=true')).length).toBe(before);
    await scheduler.startDue({ now: () => Date.now() + (attempt === 1 ? 61_000 : 121_000) });
    const retried = async () => (await runs('&quiet=true')).filter(({ cause }) => cause === 'retry');
    await until(async () => (await retried()).filter(({ endedAt }) => endedAt !== null).length === attempt);
    return (await retried())[0];
  };
  await tryAgain(1);
  expect(await retry()).toMatchObject({ members: ['crm'], attempts: 2 });
  expect(pauseOf(await retry())).toBe(2);
  expect((await get<Watch>('/api/watch')).knots[0]).toMatchObject({ attempts: 2, retryAt: expect.any(String) });
  // A run that has nothing to do with it changes nothing of it.
  await installation.run('dry run');
  await installation.run('run', { members: ['shop'] });
  expect(await retry()).toMatchObject({ attempts: 2 });
  await installation.faults('crm', {});
  await editOnPage(installation.addresses.crm, account, { 'address.town': 'Marrowby' });
  const last = await tryAgain(2);
  expect(last).toMatchObject({ cause: 'retry', state: 'succeeded', startedBy: '' });
  // Of those that were well nothing is asked again.
  expect(last?.progress?.tally.shop?.read).toBe(0);
  expect(await shopPage(shopper)).toContain('Marrowby');
  expect(await retry()).toEqual({ attempts: 0 });
});

test('what a system refuses is not tried again by itself, nor is a knot that runs by hand only', async () => {
  await begin();
  const retries = async () => (await installation.parts.data.query('select 1 from retry')) as unknown[];
  await installation.faults('crm', { refuseSignIn: true });
  expect((await installation.run()).state).toBe('succeeded in part');
  expect(await retries()).toEqual([]);
  await installation.faults('crm', { errorRate: 1 });
  await installation.run();
  expect(await retries()).toHaveLength(1);
  await installation.parts.scheduler.startDue({ now: () => Date.now() + hour });
  await wait(300);
  expect((await runs('&quiet=true')).map(({ cause }) => cause)).toEqual(['person', 'person', 'person']);
});

test('a run by hand reads the members that are named, and no others', async () => {
  await begin();
  const start = async (members: string[]) =>
    api.as('operator', 'POST', '/api/knots/customers/runs', { kind: 'run', full: true, members });
  expect((await start(['shop', 'moon'])).statusCode).toBe(404);
  const { run } = (await start(['shop'])).json() as { run: string };
  const { progress, cause } = await installation.ended(run);
  expect([cause, progress?.tally.crm?.read, progress?.tally.shop?.read]).toEqual(['person', 0, 8]);
});

test('a run by hand of some records reads those alone; what is asked for meanwhile is gathered into one', async () => {
  await begin();
  const start = async (records: { member: string; key: string }[]) =>
    api.as('operator', 'POST', '/api/knots/customers/runs', { kind: 'run', records });
  const both = [
    { member: 'crm', key: account },
    { member: 'shop', key: shopper },
  ];
  expect((await start([{ member: 'moon', key: '1' }])).statusCode).toBe(404);
  const { run } = (await start(both)).json() as { run: string };
  const read = async (id: string) => {
    const { progress } = await installation.ended(id);
    return [progress?.tally.crm?.read, progress?.tally.shop?.read];
  };
  expect(await read(run)).toEqual([1, 1]);
  // The one that waits takes up what the others want.
  const { queue } = installation.parts;
  const job = {
    knot: 'customers',
    kind: 'run',
    startedBy: '',
    cause: 'event',
    full: false,
    overGuards: false,
  } as const;
  await installation.faults('crm', { delayMs: 400 });
  const first = await queue.send({ ...job, members: ['crm'], records: {} });
  await until(async () => (await runs('&quiet=true')).some(({ id, state }) => id === first && state === 'running'));
  const others = data.accounts.filter(({ id }) => id !== account).map(({ id }) => id);
  const waiting = await queue.send({ ...job, members: [], records: { crm: [account, others[0] ?? ''] } });
  expect(await queue.send({ ...job, members: [], records: { crm: [account], shop: [shopper] } })).toBe(waiting);
  await installation.faults('crm', {});
  expect(await read(waiting)).toEqual([2, 1]);
});

test('of a system that cannot say what changed, the record alone that it tells of is read', async () => {
  const { systems } = installation.parts;
  const row = await systems.find('fernhill');
  const description = structuredClone(row?.description) as HttpSystem;
  delete (description.objects.accounts?.list as { changedSince?: unknown } | undefined)?.changedSince;
  const webhooks = { ...description.webhooks, record: 'data.id' };
  await systems.save({
    id: 'fernhill',
    description: { ...description, webhooks } as HttpSystem,
    pennant: row?.pennant as never,
    credential: undefined,
  });
  await begin();
  await keep({ zone: 'UTC', triggers: { crm: { kind: 'events', otherwiseSeconds: 3600 } } });
  await editOnPage(installation.addresses.crm, account, { 'address.town': 'Marrowby' });
  await until(async () => (await shopPage(shopper)).includes('Marrowby'));
  const told = (await runs()).filter(({ cause }) => cause === 'event');
  expect(told.map(({ progress }) => [progress?.tally.crm?.read, progress?.tally.shop?.read])).toContainEqual([1, 0]);
  // All that it told was read: it is not listed for that once more.
  await until(async () => (await runs('&quiet=true')).every(({ endedAt }) => endedAt !== null));
  await installation.parts.scheduler.startDue({ now: () => Date.now() + 3601_000 });
  await wait(300);
  expect((await runs('&quiet=true')).filter(({ cause }) => cause === 'asking')).toEqual([]);
});

test('what cannot be is refused with where it is wrong; what somebody set meanwhile is not overwritten', async () => {
  const said = async (timing: object) => {
    const answer = await keep(timing);
    return [answer.statusCode, (answer.json() as { says: string }).says] as const;
  };
  const of = (more: object) => ({ ...hourly, ...more });
  const nowhere = 'Europe/Fenland';
  expect(await said(of({ zone: nowhere }))).toEqual([422, `zone: there is no time zone “${nowhere}”.`]);
  expect(await said(of({ firstDay: '2030-01-02', lastDay: '2030-01-01' }))).toEqual([
    422,
    'lastDay: the last day is before the first.',
  ]);
  expect(await said(of({ regular: { kind: 'cron', expression: '0 0 31 2 *' } }))).toEqual([
    422,
    'regular: it never comes.',
  ]);
  expect(await said(of({ triggers: { moon: { kind: 'asking', seconds: 60 } } }))).toEqual([
    422,
    'There is no member moon.',
  ]);
  expect((await said(of({ triggers: { crm: { kind: 'asking', seconds: 1 } } })))[0]).toBe(400);
  expect((await said(of({ triggers: { crm: { kind: 'events', otherwiseSeconds: 60 } } })))[0]).toBe(200);
  expect((await keep(hourly, 0)).statusCode).toBe(409);
  expect((await keep(hourly, 1, 'editor')).statusCode).toBe(200);
  await installation.parts.inbox.unsubscribe((await installation.parts.systems.find('fernhill')) as never, 'accounts');
  const unsubscribed = await keep(of({ triggers: { crm: { kind: 'events', otherwiseSeconds: 60 } } }), 2, 'editor');
  expect([unsubscribed.statusCode, (unsubscribed.json() as { advice: string }).advice]).toEqual([
    422,
    'An administrator can do that on the page of the system, or by saving this.',
  ]);
});

interface Retry {
  readonly members: string[];
  readonly attempts: number;
  readonly due_at: Date;
}
async function definition() {
  return (await installation.parts.knots.inForce('customers'))?.definition as NonNullable<
    Awaited<ReturnType<typeof installation.parts.knots.inForce>>
  >['definition'];
}
async function dueAt(purpose: string): Promise<number> {
  const [row] = (await installation.parts.data.query('select due_at from due_slot where purpose = $1', [purpose])) as {
    due_at: Date;
  }[];
  return row?.due_at.getTime() ?? 0;
}

test('in quiet hours nothing that is told starts a run; when they are over, what it told is asked for', async () => {
  await begin();
  const clock = (from: number): string => new Date(Date.now() + from).toISOString().slice(11, 16);
  const quiet = { between: [clock(-hour), clock(hour)] };
  // It would be asked a day later otherwise.
  const crm = { kind: 'events', otherwiseSeconds: 86_400 };
  expect((await keep({ zone: 'UTC', quiet, triggers: { crm } })).statusCode).toBe(200);
  await editOnPage(installation.addresses.crm, account, { 'address.town': 'Marrowby' });
  const { scheduler, inbox } = installation.parts;
  const told = async () => inbox.deliveries((await inbox.of('fernhill'))[0]?.id ?? '');
  await until(async () => (await told()).length > 0);
  expect((await told()).flatMap((delivery) => delivery.runs)).toEqual([]);
  // Also what would have been due meanwhile is not.
  await scheduler.startDue({ now: () => Date.now() + hour / 2 });
  expect((await runs('&quiet=true')).filter(({ cause }) => cause !== 'person')).toEqual([]);
  await scheduler.startDue({ now: () => Date.now() + 1.1 * hour });
  await until(async () => (await shopPage(shopper)).includes('Marrowby'));
  expect((await runs()).map(({ cause }) => cause)).toContain('asking');
});

test('a knot waits for runs of those that come before it; in a circle, nobody is let wait', async () => {
  await begin();
  const { knots, queue } = installation.parts;
  await knots.create({ ...demoKnot, id: 'later', name: 'Later' }, 'test');
  const order = (knot: string, after: string[]) =>
    api.as('administrator', 'PUT', `/api/knots/${knot}/timing`, {
      timing: { zone: 'UTC', after, triggers: {} },
      revision: 0,
    });
  expect((await order('later', ['customers'])).statusCode).toBe(200);
  expect((await order('customers', ['later'])).json()).toMatchObject({
    says: 'later waits for this knot itself: both would wait for each other.',
  });
  expect((await order('customers', ['moon'])).json()).toMatchObject({ says: 'There is no knot moon.' });
  await installation.faults('crm', { delayMs: 300 });
  const job = { kind: 'run', startedBy: '', cause: 'schedule', overGuards: false, members: null, records: {} } as const;
  const first = await queue.send({ ...job, knot: 'customers', full: true });
  await until(async () => (await runs('&quiet=true')).some(({ id, state }) => id === first && state === 'running'));
  const second = await queue.send({ ...job, knot: 'later', full: true });
  const [before, after] = [await installation.ended(first), await installation.ended(second)];
  expect(after.startedAt.getTime()).toBeGreaterThanOrEqual(before.endedAt?.getTime() ?? Infinity);
});

test('a knot that may use a share of the calls of a day leaves the rest to others', async () => {
  await begin();
  const { systems, knots } = installation.parts;
  const row = await systems.find('fernhill');
  const description = { ...row?.description, budget: { perDay: 1000 } } as HttpSystem;
  await systems.save({ id: 'fernhill', description, pennant: row?.pennant as never, credential: undefined });
  await knots.create({ ...demoKnot, id: 'greedy', name: 'Greedy' }, 'test');
  await api.as('administrator', 'PUT', '/api/knots/greedy/timing', {
    timing: { zone: 'UTC', callShare: 1, triggers: {} },
    revision: 0,
  });
  // Each of them lists the accounts once at least.
  let words = '';
  for (let run = 0; run < 12 && words === ''; run += 1)
    words = (await installation.run('run', { knot: 'greedy', full: true })).troubles[0]?.words ?? '';
  expect(words).toBe('Greedy has used up its 1 % of the 1,000 calls a day that Fernhill CRM may have');
  expect((await installation.run('run', { full: true })).troubles).toEqual([]);
});

test('the run of a knot that comes first is taken first; one that comes last leaves calls to others', async () => {
  await begin();
  const { systems, knots, queue } = installation.parts;
  for (const [id, rank] of [
    ['early', 'first'],
    ['late', 'last'],
  ] as const) {
    await knots.create({ ...demoKnot, id, name: id }, 'test');
    const answer = await api.as('administrator', 'PUT', `/api/knots/${id}/timing`, {
      timing: { zone: 'UTC', rank, triggers: {} },
      revision: 0,
    });
    expect(answer.statusCode).toBe(200);
  }
  const job = { kind: 'run', startedBy: '', cause: 'schedule', overGuards: false, members: null, records: {} } as const;
  await installation.stopWorker();
  for (const knot of ['late', 'customers', 'early']) await queue.send({ ...job, knot, full: true });
  const taken: string[] = [];
  for (let one = await queue.fetch(); one; one = await queue.fetch()) {
    taken.push(one.data.knot);
    await queue.complete(one.id);
  }
  expect(taken).toEqual(['early', 'customers', 'late']);

  const row = await systems.find('fernhill');
  const description = { ...row?.description, budget: { perDay: 10 } } as HttpSystem;
  await systems.save({ id: 'fernhill', description, pennant: row?.pennant as never, credential: undefined });
  await installation.startWorker();
  let words = '';
  for (let run = 0; run < 8 && words === ''; run += 1)
    words = (await installation.run('run', { knot: 'late', full: true })).troubles[0]?.words ?? '';
  expect(words).toBe('late leaves the last fifth of the 10 calls a day that Fernhill CRM may have to other knots');
});

test('a folder is looked at, and a run starts only when a file has come or changed', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-folder-'));
  const put = (name: string, rows: string) => writeFileSync(join(folder, name), `mail,place\n${rows}\n`);
  put('one.csv', 'a@marram.example,Ashcombe');
  const deliveries = { path: '*.csv', format: 'csv', key: 'mail', holds: 'deliveries' };
  const { systems, knots, scheduler } = installation.parts;
  await systems.save({
    id: 'bay',
    description: filesSystemSchema.parse({ kind: 'files', name: 'Bay', folder, objects: { lists: deliveries } }),
    pennant: { pattern: 'halves', colour: 'petrol', letters: 'BY' },
    credential: undefined,
  });
  const [crm] = demoKnot.members as [Member];
  const bay = { ...crm, id: 'bay', system: 'bay', object: 'lists', may: { create: false, update: false }, guards: {} };
  const mapped = { direction: 'from', steps: [], absentMeansBlank: false, blankAs: 'null', drift: 'put back' } as const;
  const mail = demoKnot.fields.find(({ id }) => id === 'email') as SharedField;
  const mappings = { crm: mail.mappings.crm as Mapping, bay: { ...mapped, field: 'mail' } };
  const { evidence: _, ...plain } = demoKnot;
  await knots.create(
    {
      ...plain,
      id: 'lists',
      titleField: 'email',
      members: [{ ...crm, filter: undefined, required: [] }, bay],
      fields: [{ ...mail, mappings, rule: { steps: [{ step: 'order', members: ['crm', 'bay'] }] } }],
      keyRules: [{ name: 'Email', fields: [{ field: 'email', normalise: 'email' }] }],
      checks: [],
    },
    'test',
  );
  await installation.startWorker();
  await installation.run('run', { knot: 'lists' });
  const timing = { zone: 'UTC', triggers: { bay: { kind: 'asking', seconds: 86_400 } } };
  await api.as('administrator', 'PUT', '/api/knots/lists/timing', { timing, revision: 0 });
  let days = 0;
  const asked = async (): Promise<number> => {
    days += 1;
    await scheduler.startDue({ now: () => Date.now() + days * 25 * hour });
    // A run that a worker has taken just now is in no list yet.
    await wait(300);
    const ofKnot = await get<{ runs: Run[] }>('/api/runs?knot=lists&quiet=true');
    return ofKnot.runs.filter(({ cause }) => cause === 'asking').length;
  };
  // The clock of files may be ahead of ours.
  const settled = () => wait(1600);
  await settled();
  expect([await asked(), await asked(), await asked()]).toEqual([1, 1, 1]);
  // A run that waits still takes up what the next one would have wanted.
  const allEnded = () =>
    until(async () => (await get<{ runs: Run[] }>('/api/runs?knot=lists')).runs.every(({ endedAt }) => endedAt));
  await allEnded();
  put('two.csv', 'b@marram.example,Marrowby');
  expect(await asked()).toBe(1);
  await settled();
  expect([await asked(), await asked()]).toEqual([2, 2]);
  await allEnded();
  rmSync(folder, { recursive: true });
  expect([await asked(), await asked()]).toEqual([3, 3]);
});
