/**
 * Worker processes are killed (SIGKILL) at recorded points of their traffic with the systems, while these drop
 * connections after writes took effect: one that is alone, and any of three that share each run part by part. After
 * every kill the systems must hold what a simple model says: no record twice, no change lost.
 */
import { type ChildProcess, fork } from 'node:child_process';
import { join } from 'node:path';
import { setTimeout as wait } from 'node:timers/promises';
import type { FastifyInstance } from 'fastify';
import { editOnPage, type Account, generateCustomers, seededRandom, type Shopper } from '@anchor-knot/standins';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const kills = Number(process.env.KILLS ?? 50);
const random = seededRandom(20_261_123);
const data = generateCustomers({ seed: 11, inBoth: 8, onlyCrm: 3, onlyShop: 3, mess: false });

let database: TestDatabase;
let installation: RealInstallation;
const workers = new Set<ChildProcess>();
/** Counts the calls of the worker; the one that is due kills it, before or after it takes effect. */
let countdown = Number.POSITIVE_INFINITY;
let when: 'before' | 'after' = 'before';
/** The calls that are counted. The points have to cover reads, creations and updates of both systems. */
const kinds = [/CRM GET/, /shop GET/, /CRM PATCH/, /shop PUT/, /(CRM|shop) POST/];
let counted = /./;
const killedAt: string[] = [];

function killNow(point: string): void {
  killedAt.push(point);
  countdown = Number.POSITIVE_INFINITY;
  const all = [...workers];
  all[Math.floor(random() * all.length)]?.kill('SIGKILL');
}

function watch(app: FastifyInstance, name: string): void {
  const isCall = (url: string): boolean => url.startsWith('/api/') || url.startsWith('/shop/');
  app.addHook('onRequest', async (request) => {
    if (!isCall(request.url) || !counted.test(`${name} ${request.method}`)) return;
    if ((countdown -= 1) === 0 && when === 'before')
      killNow(`before ${name} ${request.method} ${request.url.split('?')[0]}`);
  });
  app.addHook('onResponse', async (request) => {
    if (isCall(request.url) && counted.test(`${name} ${request.method}`) && countdown <= 0 && when === 'after')
      killNow(`after ${name} ${request.method} ${request.url.split('?')[0]}`);
  });
  // A dropped connection has no response: its request ends in an abort.
  app.addHook('onRequestAbort', async (request) => {
    if (isCall(request.url) && counted.test(`${name} ${request.method}`) && countdown <= 0 && when === 'after')
      killNow(`after dropped ${name} ${request.method}`);
  });
}

/** Starts a worker; when it is killed, another takes its place, as a supervisor would do. */
function startWorker(): void {
  const child = fork(join(import.meta.dirname, '../../dist/workerProcess.js'), {
    env: {
      ...process.env,
      NODE_OPTIONS: '',
      DATABASE_URL: installation.url,
      SECRET_KEY: installation.key,
      LEASE_SECONDS: '0.5',
      // Nearly every anchor is a part of its own.
      BATCH_SIZE: '2',
      REACHABLE_NETWORKS: '127.0.0.0/8',
      LOG_LEVEL: 'silent',
    },
    stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
  });
  workers.add(child);
  child.once('exit', (_, signal) => {
    workers.delete(child);
    if (signal === 'SIGKILL') startWorker();
  });
}

beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(database, data, {
    timeoutMs: 1000,
    crm: { faults: { dropAfterWrite: 0.15 }, faultSeed: 5 },
    shop: { faults: { dropAfterWrite: 0.15 }, faultSeed: 6 },
    prepare: (crm, shop) => {
      watch(crm, 'CRM');
      watch(shop, 'shop');
    },
  });
  startWorker();
});

afterAll(async () => {
  for (const worker of workers) worker.kill('SIGTERM');
  await installation.stop();
  await database.stop();
});

const model = new Map<string, { street: string; town: string }>();
let serial = 0;

async function rows() {
  const token = (
    (await (
      await fetch(`${installation.addresses.crm}/oauth/token`, {
        method: 'POST',
        headers: {
          authorization: `Basic ${Buffer.from(`id:${installation.secret}`).toString('base64')}`,
          'content-type': 'application/x-www-form-urlencoded',
        },
        body: 'grant_type=client_credentials',
      })
    ).json()) as { access_token: string }
  ).access_token;
  countdown = Number.POSITIVE_INFINITY;
  const crm = (
    (await (
      await fetch(`${installation.addresses.crm}/api/accounts?limit=1000`, {
        headers: { authorization: `Bearer ${token}` },
      })
    ).json()) as { data: Account[] }
  ).data;
  const shop = (await (
    await fetch(`${installation.addresses.shop}/shop/v1/shoppers?per_page=1000`, {
      headers: { authorization: `Basic ${Buffer.from(`id:${installation.secret}`).toString('base64')}` },
    })
  ).json()) as (Shopper & { shopper_id: number })[];
  return {
    crm: crm.map((one) => ({
      key: one.id,
      email: one.contact.email as string,
      street: one.address.street ?? '',
      town: one.address.town ?? '',
    })),
    shop: shop.map((one) => ({
      key: String(one.shopper_id),
      email: one.mail,
      street: one.address_line,
      town: one.city,
    })),
  };
}

/** Edits of this round: a street here, a town there, and sometimes a new customer. */
async function edit(): Promise<void> {
  const { crm, shop } = await rows();
  const pick = <T>(all: readonly T[]): T => all[Math.floor(random() * all.length)] as T;
  for (let count = 0; count < 3; count += 1) {
    const [one, other] = [pick(crm), pick(shop)];
    serial += 1;
    await editOnPage(installation.addresses.crm, one.key, { 'address.street': `Street ${serial}` });
    (model.get(one.email) as { street: string }).street = `Street ${serial}`;
    await editOnPage(installation.addresses.shop, other.key, { city: `Town ${serial}` });
    (model.get(other.email) as { town: string }).town = `Town ${serial}`;
  }
  if (random() < 0.5) {
    serial += 1;
    const email = `new${serial}@marram.example`;
    await fetch(`${installation.addresses.shop}/records`, {
      method: 'POST',
      redirect: 'manual',
      body: new URLSearchParams({
        company_name: `New ${serial}`,
        mail: email,
        city: 'Ashcombe',
        address_line: `Street ${serial}`,
      }),
    });
    model.set(email, { street: `Street ${serial}`, town: 'Ashcombe' });
  }
}

/** Runs until nothing is open: the run that was killed, the one that takes it up, and one more. */
async function settle(): Promise<void> {
  for (const until = Date.now() + 45_000; Date.now() < until; await wait(60)) {
    const [{ busy }] = (await installation.parts.data.query(
      `select (select count(*) from run where ended_at is null)::int + (select count(*) from pgboss.job
        where name = 'run-knot' and state in ('created', 'active'))::int as busy`,
    )) as [{ busy: number }];
    if (busy > 0) continue;
    const [{ open }] = (await installation.parts.data.query(
      `select (select count(*) from anchor where open)::int + (select count(*) from write_intent)::int as open`,
    )) as [{ open: number }];
    const [last] = (await installation.parts.data.query(`select state from run order by started_at desc limit 1`)) as {
      state: string;
    }[];
    if (open === 0 && last?.state === 'succeeded') return;
    await installation.ask('run', { overGuards: true });
  }
  throw new Error(`not settled after a kill ${killedAt.at(-1)}: ${JSON.stringify(await installation.decisions())}`);
}

test.each([
  ['a worker that is alone', 0, kills / 2],
  ['any of three workers on one run', 2, kills],
])(
  '%s is killed at many points: nothing is created twice, and no change is lost',
  async (_, more, until) => {
    for (let count = 0; count < more; count += 1) startWorker();
    for (const { email, street, town } of (await rows()).crm) model.set(email, { street, town });
    for (const { email, street, town } of (await rows()).shop) model.set(email, { street, town });
    // Some runs are over before their turn comes.
    for (let round = 0; killedAt.length < until && round < kills * 2; round += 1) {
      if (round > 0 || more > 0) await edit();
      // The first rounds hit the first load over and over; later ones walk through everything that a run calls.
      when = random() < 0.5 ? 'before' : 'after';
      // Every other round is for one kind of call, so that each has its turns.
      const kind = kinds[(round >> 1) % kinds.length] as RegExp;
      counted = round % 2 === 0 ? /./ : kind;
      countdown = 1 + Math.floor(random() * (round % 2 === 0 ? 14 : 2));
      await installation.ask('run', { overGuards: true });
      await settle();
      const now = await rows();
      const expected = [...model]
        .map(([email, value]) => ({ email, ...value }))
        .sort((a, b) => (a.email < b.email ? -1 : 1));
      for (const system of [now.crm, now.shop]) {
        const held = system
          .map(({ email, street, town }) => ({ email, street, town }))
          .sort((a, b) => (a.email < b.email ? -1 : 1));
        expect({ round, killed: killedAt.at(-1), held }).toEqual({ round, killed: killedAt.at(-1), held: expected });
      }
    }
    expect(killedAt.length).toBeGreaterThanOrEqual(until);
    // Most had opened a phase by then, and went on where they stood.
    const [{ given_up: givenUp }] = (await installation.parts.data.query(
      `select count(*)::int as given_up from run where state = 'failed'`,
    )) as [{ given_up: number }];
    expect(givenUp).toBeLessThan(killedAt.length / 2);
    expect(kinds.filter((kind) => !killedAt.some((point) => kind.test(point)))).toEqual([]);
  },
  600_000,
);
