/**
 * 100,000 customers in two stand-ins: no change, 1 percent changed, first load. Each is measured against a floor of the
 * same run: fetching and parsing the same pages with the plain HTTP client, with the same page size; for the first
 * load, fetching and copying the raw records into one table. Prints ratios and peak memory. Settings: BENCH_CUSTOMERS,
 * and BENCH_UNTIED: how many accounts the CRM has besides, which the shop does not have and which begin nothing.
 */
import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { createInterface } from 'node:readline';
import { performance } from 'node:perf_hooks';
import { AddressFilter, HttpConnector } from '@anchor-knot/connectors';
import { httpSystemSchema, knotFileSchema } from '@anchor-knot/contracts';
import { compileKnot } from '@anchor-knot/core';
import { clusterFolder, openDatabase, PostgresStore, runKnot, startCluster } from '@anchor-knot/server';
import pg from 'pg';
import { Agent, request } from 'undici';
import { v7 as uuid } from 'uuid';

const customers = Number(process.env.BENCH_CUSTOMERS ?? 100_000);
const untied = Number(process.env.BENCH_UNTIED ?? 0);
const pageSize = 1000;
const root = resolve(import.meta.dirname, '..');
const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-bench-'));
const closers = [];
const close = async () => {
  for (const closer of closers.reverse()) await closer();
};
const secret = 'bench';
const reachable = new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] });

async function standIn(which) {
  const child = spawn(process.execPath, [join(root, 'standins/dist/main.js'), which], {
    env: {
      ...process.env,
      STANDIN_DATA: folder,
      STANDIN_ID: 'bench',
      STANDIN_SECRET: secret,
      STANDIN_FAULTS: '{"callsPerSecond":0}',
      STANDIN_CUSTOMERS: JSON.stringify({ inBoth: customers, onlyCrm: untied, onlyShop: 0, mess: false }),
    },
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  closers.push(() => new Promise((done) => child.once('exit', done) && child.kill()));
  const line = await new Promise((done) => createInterface({ input: child.stdout }).once('line', done));
  return line.replace('listening on ', '');
}

const addresses = { fernhill: await standIn('crm'), marketRow: await standIn('shop') };
const cluster = await startCluster(clusterFolder(folder, `bench-${process.pid}`), { throwAway: true });
closers.push(() => {
  cluster.stop();
  rmSync(clusterFolder(folder, `bench-${process.pid}`), { recursive: true, force: true });
});
closers.push(() => rmSync(folder, { recursive: true, force: true }));
const client = new pg.Client({ connectionString: cluster.url('postgres') });
await client.connect();
await client.query('create database bench');
await client.end();
const data = await openDatabase(cluster.url('bench'));
closers.push(() => data.destroy());
await data.query(`insert into knot (id, name, version_in_force) values ('customers', 'Customers', 1)`);

const descriptions = JSON.parse(readFileSync(join(root, 'server/demo/systems.json'), 'utf8'));
for (const description of [descriptions.fernhill, descriptions.marketRow])
  for (const object of Object.values(description.objects)) object.list.pageSize.value = pageSize;
const systems = Object.fromEntries(
  ['fernhill', 'marketRow'].map((id) => [id, httpSystemSchema.parse({ ...descriptions[id], address: addresses[id] })]),
);
const { knot: definition } = knotFileSchema.parse(
  JSON.parse(readFileSync(join(root, 'server/demo/customers.knot.json'), 'utf8')),
);
// Measured between the CRM and the shop: the thirteen fields that both have, with phones, a crosswalk and cuts, plus a
// formula on the note; no guards.
definition.members = definition.members.filter(({ system }) => system in systems);
const measured = new Set(definition.members.map(({ id }) => id));
const ofMeasured = (mappings) =>
  Object.fromEntries(Object.entries(mappings).filter(([member]) => measured.has(member)));
definition.fields = definition.fields.filter(
  ({ mappings }) => Object.keys(ofMeasured(mappings)).length === measured.size,
);
for (const field of definition.fields) {
  field.mappings = ofMeasured(field.mappings);
  for (const step of field.rule.steps)
    if (step.step === 'order') step.members = step.members.filter((member) => measured.has(member));
}
definition.keyRules = definition.keyRules.filter((rule) =>
  rule.fields.every(({ field }) => definition.fields.some(({ id }) => id === field)),
);
delete definition.evidence;
for (const member of definition.members) {
  member.guards = {};
  if (untied > 0) member.startsAnchors = member.id !== 'crm';
}
definition.fields.find(({ id }) => id === 'note').mappings.crm.steps = [
  { kind: 'formula', inbound: 'trim(value)', outbound: 'value' },
];
const compiled = compileKnot(definition);
if (!compiled.ok) throw new Error(JSON.stringify(compiled.problems));
const clock = { now: () => Date.now(), sleep: (milliseconds) => new Promise((done) => setTimeout(done, milliseconds)) };
const installation = {
  store: new PostgresStore(data),
  clock,
  nextId: () => uuid(),
  connect: async ({ system, object }) =>
    new HttpConnector(systems[system], object, {
      clock,
      random: () => 0.5,
      addresses: reachable,
      credential: { id: 'bench', secret },
    }),
  systemName: (member) => member,
};
const run = (full, more = {}) =>
  runKnot(installation, {
    ...more,
    knot: compiled.knot,
    knotVersion: 1,
    kind: 'run',
    startedBy: 'bench',
    leaseMs: 3_600_000,
    full,
  });

const agent = new Agent({ connections: 2 });
async function token() {
  const answer = await request(`${addresses.fernhill}/oauth/token`, {
    method: 'POST',
    body: 'grant_type=client_credentials',
    headers: {
      authorization: `Basic ${Buffer.from(`bench:${secret}`).toString('base64')}`,
      'content-type': 'application/x-www-form-urlencoded',
    },
  });
  return (await answer.body.json()).access_token;
}

/** The floor: the same pages with the plain HTTP client. `each` gets the parsed records of a page. */
async function plainFetch(each = async () => undefined) {
  const bearer = await token();
  const crm = async () => {
    for (let cursor; cursor !== null;) {
      const answer = await request(
        `${addresses.fernhill}/api/accounts?limit=${pageSize}${cursor ? `&cursor=${cursor}` : ''}`,
        {
          dispatcher: agent,
          headers: { authorization: `Bearer ${bearer}` },
        },
      );
      const page = JSON.parse(await answer.body.text());
      cursor = page.nextCursor;
      await each('crm', page.data, 'id');
    }
  };
  const shop = async () => {
    const basic = `Basic ${Buffer.from(`bench:${secret}`).toString('base64')}`;
    for (let number = 1; ; number += 1) {
      const answer = await request(`${addresses.marketRow}/shop/v1/shoppers?per_page=${pageSize}&page=${number}`, {
        dispatcher: agent,
        headers: { authorization: basic },
      });
      const page = JSON.parse(await answer.body.text());
      await each('shop', page, 'shopper_id');
      if (!answer.headers.link) break;
    }
  };
  await Promise.all([crm(), shop()]);
}

await data.query('create unlogged table raw_copy (member text, record_key text, record jsonb)');
const copyRaw = (member, records, key) =>
  data.query(`insert into raw_copy select $1, r->>$3, r from jsonb_array_elements($2::jsonb) r`, [
    member,
    JSON.stringify(records),
    key,
  ]);

async function measure(work) {
  globalThis.gc?.();
  let peak = 0;
  const timer = setInterval(() => (peak = Math.max(peak, process.memoryUsage().rss)), 50);
  const processor = process.cpuUsage();
  const started = performance.now();
  const result = await work();
  const seconds = (performance.now() - started) / 1000;
  const used = process.cpuUsage(processor);
  clearInterval(timer);
  return {
    seconds,
    processor: (used.user + used.system) / 1e6,
    megabytes: Math.max(peak, process.memoryUsage().rss) / 1024 / 1024,
    result,
  };
}

/** A run of one record that was edited, as an event starts it: its steps, and what the systems' calls took of them. */
async function oneRecord(bearer, key) {
  const runs = [];
  for (let edit = 0; edit < 20; edit += 1) {
    const answer = await request(`${addresses.fernhill}/api/accounts/${key}`, {
      method: 'PATCH',
      dispatcher: agent,
      headers: { authorization: `Bearer ${bearer}`, 'content-type': 'application/json' },
      body: JSON.stringify({ address: { street: `Weir Lane ${edit}` } }),
    });
    await answer.body.dump();
    const started = performance.now();
    const { result } = await run(false, { members: new Set(), records: new Map([['crm', [key]]]) });
    const calls = Object.values(result.progress.calls).flatMap((kinds) => Object.values(kinds));
    const steps = Object.fromEntries(result.progress.steps.map(({ phase, ms }) => [phase, ms]));
    runs.push({ ms: performance.now() - started, calls: calls.reduce((sum, { ms }) => sum + ms, 0), steps });
  }
  const middle = runs.toSorted((one, other) => one.ms - other.ms)[runs.length / 2];
  console.log(
    `one edited record by its key: median ${middle.ms.toFixed(0)} ms, ${middle.calls.toFixed(0)} of them in calls, ` +
      `${(middle.ms - middle.calls).toFixed(0)} the engine's own (goal 60); ` +
      Object.entries(middle.steps)
        .map(([phase, ms]) => `${phase} ${ms.toFixed(0)}`)
        .join(', '),
  );
}

const records = customers * 2 + untied;
const micro = (seconds) => `${((seconds / records) * 1e6).toFixed(1)} µs a record`;
function report(name, measured, floor, goal) {
  const tally = measured.result?.result?.progress.tally;
  const written = tally ? Object.values(tally).reduce((sum, one) => sum + one.written, 0) : 0;
  console.log(
    `${name}: ${measured.seconds.toFixed(2)} s, ${(measured.seconds / floor.seconds).toFixed(2)} times ` +
      `its floor of ${floor.seconds.toFixed(2)} s${goal ? ` (goal ${goal})` : ''}; processor ` +
      `${(measured.processor / floor.processor).toFixed(2)} times; ${micro(measured.seconds)}; peak ` +
      `${measured.megabytes.toFixed(0)} MB${written ? `; ${written} records written` : ''}`,
  );
  const steps = measured.result?.result?.progress.steps ?? [];
  console.log(`  ${steps.map(({ phase, ms }) => `${phase} ${(ms / 1000).toFixed(2)}`).join(', ')} s`);
}

try {
  console.log(`${customers} customers in two stand-ins, ${untied} untied accounts, pages of ${pageSize}`);
  await plainFetch();
  const copyFloor = await measure(() => plainFetch(copyRaw));
  const first = await measure(() => run(true));
  report('first load (read, match by key, tie, plan)', first, copyFloor, 4);
  const floor = await measure(() => plainFetch());
  report('no change, complete listing', await measure(() => run(true)), floor, 2);
  const changed = Math.floor(customers / 100);
  // 1 percent of the accounts get another street, through the CRM's own API.
  const bearer = await token();
  const accounts = [];
  await plainFetch(
    async (member, page) =>
      member === 'crm' && accounts.push(...page.filter(() => accounts.length < changed * 100).map(({ id }) => id)),
  );
  for (let index = 0; index < changed; index += 1) {
    await (
      await request(`${addresses.fernhill}/api/accounts/${accounts[index * 100]}`, {
        method: 'PATCH',
        dispatcher: agent,
        headers: { authorization: `Bearer ${bearer}`, 'content-type': 'application/json' },
        body: JSON.stringify({ address: { street: `Weir Lane ${index}` } }),
      })
    ).body.dump();
  }
  // The floor of a write is the same two calls that a careful writer needs there: read again, then write.
  const basic = `Basic ${Buffer.from(`bench:${secret}`).toString('base64')}`;
  const shoppers = [];
  await plainFetch(
    async (member, page) =>
      member === 'shop' && shoppers.push(...page.map(({ shopper_id: id, remark }) => ({ id, remark }))),
  );
  const changedFloor = await measure(async () => {
    await plainFetch();
    const queue = shoppers.filter((_, index) => index % 100 === 0).slice(0, changed);
    await Promise.all(
      Array.from({ length: 4 }, async () => {
        for (let one = queue.pop(); one; one = queue.pop()) {
          const url = `${addresses.marketRow}/shop/v1/shoppers/${one.id}`;
          await (await request(url, { dispatcher: agent, headers: { authorization: basic } })).body.json();
          await (
            await request(url, {
              method: 'PUT',
              dispatcher: agent,
              headers: { authorization: basic, 'content-type': 'application/json' },
              body: JSON.stringify({ shopper: { remark: one.remark } }),
            })
          ).body.json();
        }
      }),
    );
  });
  report('1 percent changed, complete listing', await measure(() => run(true)), changedFloor, 2.2);
  const delta = await measure(() => run(false));
  console.log(
    `no change, changes only where the system can tell them: ${delta.seconds.toFixed(2)} s, ` +
      `peak ${delta.megabytes.toFixed(0)} MB`,
  );
  await oneRecord(bearer, accounts[50]);
} finally {
  await agent.close();
  await close();
}
