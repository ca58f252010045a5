/** Systems and their objects as the API shows them: connecting, profiles, schemas over time, secrets and their key. */
import { randomBytes } from 'node:crypto';
import { setTimeout as wait } from 'node:timers/promises';
import { httpSystemSchema, type Pennant } from '@anchor-knot/contracts';
import { generateCustomers } from '@anchor-knot/standins';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { rotateKey } from './rotateKey.js';
import { SecretBox } from './secretBox.js';

let database: TestDatabase;
let installation: RealInstallation;
const pennant: Pennant = { pattern: 'disc', colour: 'plum', letters: 'XX' };
beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(
    database,
    generateCustomers({ seed: 9, inBoth: 30, onlyCrm: 4, onlyShop: 2, mess: true }),
  );
  await installation.startWorker();
});
afterAll(async () => {
  await installation.stop();
  await database.stop();
});

async function profileOf(system: string, object: string) {
  const { queue, objects, systems } = installation.parts;
  await objects.waitForProfile(system, object);
  await queue.sendProfile({ system, object });
  for (const until = Date.now() + 30_000; Date.now() < until; await wait(50)) {
    const row = await systems.find(system);
    const [found] = (await objects.summaries(system, row?.description as never)).filter(({ name }) => name === object);
    if (found?.profile?.endedAt) return { ...found, ...(await objects.details(system, object)) };
  }
  throw new Error('the profile did not end');
}

test('a profile reads every record once and tells what its fields hold, also nested ones', async () => {
  const { profile, schema, records } = await profileOf('fernhill', 'accounts');
  expect([profile, records, schema?.origin]).toMatchObject([{ records: 34 }, 34, 'seen']);
  const email = (profile as unknown as { fields: { path: string; filled: number }[] }).fields.find(
    ({ path }) => path === 'contact.email',
  );
  expect(email?.filled).toBeGreaterThan(25);
});

test('a profile of an object that is as it was makes no new version; one whose fields differ tells how', async () => {
  expect((await profileOf('marketRow', 'shoppers')).history).toHaveLength(1);
  expect((await profileOf('marketRow', 'shoppers')).history).toHaveLength(1);
  await installation.parts.data.query(
    `update object_schema set schema = jsonb_set(schema, '{fields,0,path}', '"old_name"')
      where system_id = 'marketRow'`,
  );
  const { history } = await profileOf('marketRow', 'shoppers');
  expect(history[0]?.changes.map(({ kind }) => kind).sort()).toEqual(['added', 'removed']);
});

test('a profile of a system in trouble says what it is, and keeps what was known before', async () => {
  await installation.faults('crm', { refuseSignIn: true });
  const { profile, records } = await profileOf('fernhill', 'accounts');
  await installation.faults('crm', {});
  expect(records).toBeNull();
  expect(profile).toMatchObject({ records: 34 });
  const row = await installation.parts.systems.find('fernhill');
  const [object] = await installation.parts.objects.summaries('fernhill', row?.description as never);
  expect(object?.profile).toMatchObject({ state: 'failed', words: expect.stringContaining('refused the sign-in') });
});

test('a test of a system says each step, and its clock when that is off', async () => {
  const { systems } = installation.parts;
  const row = await systems.find('fernhill');
  const probe = await systems.probe(row as NonNullable<typeof row>);
  expect(probe.steps.map(({ name, state }) => `${name} ${state}`)).toEqual([
    'Reach the host good',
    'Sign in good',
    'Read accounts good',
    'Read people good',
    'Read deals good',
    'Read partners good',
    'Read leads good',
    'Clock good',
  ]);
  expect(await systems.find('fernhill')).toMatchObject({ trouble: null, probe: { ok: true } });
});

test(
  'a system that falls ill is noticed without a run, once for all workers, and its test as a person ' + 'made it stays',
  async () => {
    const { systems, data } = installation.parts;
    const before = await systems.find('marketRow');
    await systems.probe(before as NonNullable<typeof before>);
    await installation.faults('shop', { refuseSignIn: true });
    await systems.watch(10);
    expect(await systems.find('marketRow')).toMatchObject({ trouble: null });
    await data.query(`update system set checked_at = now() - interval '11 minutes'`);
    await Promise.all([systems.watch(10), systems.watch(10)]);
    expect(await systems.find('marketRow')).toMatchObject({
      trouble: { code: 'sign-in refused' },
      probe: { ok: true },
    });
    await installation.faults('shop', {});
    await data.query(`update system set checked_at = now() - interval '11 minutes'`);
    await systems.watch(10);
    expect(await systems.find('marketRow')).toMatchObject({ trouble: null });
  },
);

test(
  'two administrators who change a system at once: the second is told, and nothing of the ' + 'first is lost',
  async () => {
    const { systems } = installation.parts;
    const description = httpSystemSchema.parse({
      kind: 'http',
      name: 'Éclair & Co',
      address: 'http://127.0.0.1:1',
      signIn: { kind: 'none' },
      objects: {},
    });
    const id = await systems.connectNew({ description, pennant });
    expect([id, await systems.connectNew({ description, pennant })]).toEqual(['e-clair-co', 'e-clair-co-2']);
    const before = (await systems.find(id)) as NonNullable<Awaited<ReturnType<typeof systems.find>>>;
    expect(await systems.change(before, 1, { description: { ...description, name: 'First' }, pennant })).toBe(
      'changed',
    );
    expect(await systems.change(before, 1, { description: { ...description, name: 'Second' }, pennant })).toBe(
      'changed meanwhile',
    );
    expect((await systems.find(id))?.name).toBe('First');
  },
);

test('a new key: every secret is moved or none, and the systems sign in as before', async () => {
  const next = randomBytes(32).toString('base64');
  const sealed = async () =>
    (await installation.parts.data.query('select credential from system where credential is not null order by id')) as {
      credential: Buffer;
    }[];
  const before = await sealed();
  await expect(
    rotateKey({ DATABASE_URL: installation.url, SECRET_KEY: next, NEW_SECRET_KEY: installation.key }),
  ).rejects.toThrow('is not the key that the secrets are under');
  await expect(
    rotateKey({ DATABASE_URL: installation.url, SECRET_KEY: installation.key, NEW_SECRET_KEY: 'short' }),
  ).rejects.toThrow('NEW_SECRET_KEY');
  expect(await sealed()).toEqual(before);
  expect(await rotateKey({ DATABASE_URL: installation.url, SECRET_KEY: installation.key, NEW_SECRET_KEY: next })).toBe(
    2,
  );
  const [first] = await sealed();
  expect(JSON.parse(new SecretBox(next).open(first?.credential as Buffer, 'fernhill'))).toMatchObject({
    secret: installation.secret,
  });
  expect(() => new SecretBox(installation.key).open(first?.credential as Buffer, 'fernhill')).toThrow();
  expect(() => new SecretBox(next).open(first?.credential as Buffer, 'marketRow')).toThrow();
  await rotateKey({ DATABASE_URL: installation.url, SECRET_KEY: next, NEW_SECRET_KEY: installation.key });
});
