/**
 * Fifty knots between twenty systems, while people edit: what is lost (nothing may be), how long it takes from an edit
 * to its value elsewhere, and how much memory the processes hold. Ten CRMs and ten shops; each CRM has five knots with
 * its shop, one for each segment of its accounts, that its webhooks start. Settings: BENCH_SECONDS (600 unless given),
 * BENCH_RATE (edits a second, 100 unless given). Ratios are to four calls of such a system, measured meanwhile.
 */
import { spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { performance } from 'node:perf_hooks';
import { setTimeout as wait } from 'node:timers/promises';
import { clusterFolder, freePort, openInstallation, startCluster } from '@anchor-knot/server';
import { crmServer, editOnPage, generateCustomers, seededRandom, segments, shopServer } from '@anchor-knot/standins';
import pg from 'pg';

const seconds = Number(process.env.BENCH_SECONDS ?? 600);
const rate = Number(process.env.BENCH_RATE ?? 100);
const pairs = 10;
const customersOfEach = 250;
const secret = 'bench';
const random = seededRandom(20261130);
const demo = (name) => JSON.parse(readFileSync(new URL(`../server/demo/${name}.json`, import.meta.url), 'utf8'));
const [systems, { knot: demoKnot }] = [demo('systems'), demo('customers.knot')];
const root = new URL('../server/dist/', import.meta.url).pathname;

const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-bench-'));
const cluster = await startCluster(clusterFolder(folder, `bench-${process.pid}`), { throwAway: true });
const client = new pg.Client({ connectionString: cluster.url('postgres') });
await client.connect();
await client.query('create database bench');
await client.end();
const port = await freePort();
const here = `http://127.0.0.1:${port}`;
const environment = {
  ...process.env,
  DATABASE_URL: cluster.url('bench'),
  SECRET_KEY: randomBytes(32).toString('base64'),
  REACHABLE_NETWORKS: '127.0.0.0/8',
  PUBLIC_ADDRESS: here,
  PORT: String(port),
  LOG_LEVEL: 'silent',
};
const parts = await openInstallation({
  DATABASE_URL: environment.DATABASE_URL,
  SECRET_KEY: environment.SECRET_KEY,
  REACHABLE_NETWORKS: ['127.0.0.0/8'],
  FILE_FOLDERS: [],
});
const processes = new Map();
const standIns = [];
/** Edits of an account that have not reached its shop: their numbers, in order, and when each was made. */
const underWay = new Map();
/** Accounts of which the page has not answered yet. */
const onItsWay = new Set();
const delays = [];
try {
  for (const [name, file] of [
    ['server', 'serverProcess.js'],
    ['worker', 'workerProcess.js'],
    ['second worker', 'workerProcess.js'],
  ])
    processes.set(name, spawn(process.execPath, [join(root, file)], { env: environment, stdio: 'inherit' }));
  while (!(await fetch(`${here}/api/ready`).catch(() => undefined))?.ok) await wait(100);
  const crms = await Promise.all(Array.from({ length: pairs }, (_, pair) => connect(pair)));
  const knots = crms.flatMap(({ pair }) => segments.map((_, segment) => `k${pair}s${segment}`));
  await Promise.all(knots.map(firstRun));
  for (const knot of knots) await keepTiming(knot);
  for (const crm of crms) crm.accounts = await tiedAccounts(crm.pair);
  await wait(3000);
  console.log(`${knots.length} knots, ${standIns.length} systems, ${rate} edits a second for ${seconds} s`);
  const floor = await play(crms);
  for (const until = Date.now() + 120_000; underWay.size > 0 && Date.now() < until;) await wait(200);
  report(floor);
} finally {
  for (const child of processes.values()) child.kill('SIGTERM');
  await Promise.all([...processes.values()].map((child) => new Promise((done) => child.once('exit', done))));
  await parts.close();
  for (const app of standIns) await app.close();
  cluster.stop();
  rmSync(folder, { recursive: true, force: true });
}

/** A CRM, a shop and their five knots. */
async function connect(pair) {
  const data = generateCustomers({ seed: pair + 1, inBoth: customersOfEach, onlyCrm: 0, onlyShop: 0, mess: false });
  const crm = await crmServer({ seed: data.accounts, clientId: 'id', clientSecret: secret });
  const shop = await shopServer({ seed: data.shoppers, key: 'id', secret, faults: { callsPerSecond: 0 } });
  shop.addHook('preHandler', async ({ method, body }) => {
    const [, account, edit] = (method === 'PUT' && /Town (\d+-\d+) (\d+)"/.exec(JSON.stringify(body))) || [];
    if (account) arrived(account, Number(edit));
  });
  standIns.push(crm, shop);
  const addresses = [
    await crm.listen({ host: '127.0.0.1', port: 0 }),
    await shop.listen({ host: '127.0.0.1', port: 0 }),
  ];
  for (const [id, kind, address] of [
    [`crm${pair}`, 'fernhill', addresses[0]],
    [`shop${pair}`, 'marketRow', addresses[1]],
  ]) {
    const { budget: _, ...description } = { ...systems[kind], name: `${systems[kind].name} ${pair}`, address };
    const pennant = { pattern: 'halves', colour: 'petrol', letters: 'BE' };
    await parts.systems.save({ id, description, pennant, credential: { id: 'id', secret } });
  }
  for (const [segment, name] of segments.entries()) await parts.knots.create(knotOf(pair, segment, name), 'bench');
  return { pair, address: addresses[0], accounts: data.accounts.map(({ id }) => id) };
}

function knotOf(pair, segment, name) {
  const members = demoKnot.members
    .filter(({ id }) => id === 'crm' || id === 'shop')
    .map((member) => ({
      ...member,
      system: `${member.id}${pair}`,
      may: { create: false, update: true },
      startsAnchors: member.id === 'crm',
      filter: member.id === 'crm' ? `record.segment == ${JSON.stringify(name)}` : undefined,
      guards: {},
    }));
  const kept = ['company', 'email', 'town'];
  const fields = demoKnot.fields
    .filter(({ id }) => kept.includes(id))
    .map((field) => ({
      ...field,
      rule: { steps: [{ step: 'order', members: ['crm', 'shop'] }] },
      mappings: { crm: field.mappings.crm, shop: field.mappings.shop },
    }));
  const { evidence: _, ...rest } = demoKnot;
  const keyRules = [{ name: 'Email', fields: [{ field: 'email', normalise: 'email' }] }];
  return { ...rest, id: `k${pair}s${segment}`, name: `${name} ${pair}`, members, fields, keyRules, checks: [] };
}

async function firstRun(knot) {
  const scope = { members: null, records: {}, full: false, overGuards: true };
  await parts.queue.send({ knot, kind: 'run', startedBy: 'bench', cause: 'person', ...scope });
  for (;;) {
    const [run] = await parts.data.query('select state, words from run where knot_id = $1 and ended_at is not null', [
      knot,
    ]);
    if (run?.state.startsWith('succeeded')) return;
    if (run) throw new Error(`the first run of ${knot} ${run.state}: ${run.words}`);
    await wait(200);
  }
}

/** Two customers may happen to have one address: what waits for a person is not edited. */
async function tiedAccounts(pair) {
  const rows = await parts.data.query(
    `select crm.record_key as key from tie crm join tie shop using (anchor_id)
     where crm.member = 'crm' and shop.member = 'shop' and crm.knot_id like $1`,
    [`k${pair}s%`],
  );
  return rows.map(({ key }) => key);
}

async function keepTiming(knot) {
  const { definition } = await parts.knots.inForce(knot);
  const timing = { zone: 'UTC', triggers: { crm: { kind: 'events', otherwiseSeconds: 60 } } };
  await parts.timings.keep(definition, 0, timing, 'bench', Date.now());
  const { system, object } = definition.members.find(({ id }) => id === 'crm');
  if ((await parts.inbox.of(system)).length > 0) return;
  await parts.inbox.subscribe(await parts.systems.find(system), object, here);
}

/** Edits at the rate that is wanted, whatever the answers take. @returns what four calls of a system took meanwhile */
async function play(crms) {
  const floor = [];
  const begun = performance.now();
  const total = rate * seconds;
  const edits = [];
  for (let edit = 1; edit <= total; edit += 1) {
    const due = begun + (edit * 1000) / rate;
    if (due > performance.now()) await wait(due - performance.now());
    const { pair, address, accounts } = crms[Math.floor(random() * crms.length)];
    // One after another, so that the last edit of an account is the one with the greatest number.
    let place = Math.floor(random() * accounts.length);
    while (onItsWay.has(`${pair}-${place}`)) place = (place + 1) % accounts.length;
    edits.push(editAccount(address, accounts[place], `${pair}-${place}`, edit));
    if (edits.length > 1000) await Promise.all(edits.splice(0, 500));
    if (edit % (rate * 5) === 0) floor.push(await fourCalls(address, accounts[place]));
    if ([0.1, 0.5, 1].some((share) => edit === Math.floor(total * share))) tellMemory(edit / rate);
  }
  await Promise.all(edits);
  return floor;
}

async function editAccount(address, id, account, edit) {
  const waiting = underWay.get(account) ?? [];
  underWay.set(account, waiting);
  waiting.push({ edit, at: performance.now() });
  onItsWay.add(account);
  const changes = { 'address.town': `Town ${account} ${edit}` };
  // A page closes connections that were idle for long, some as the next request comes: as a browser does, once more.
  await editOnPage(address, id, changes).catch(() => editOnPage(address, id, changes));
  onItsWay.delete(account);
}

/** What arrives takes with it all that was written over before. */
function arrived(account, edit) {
  const waiting = underWay.get(account) ?? [];
  const left = waiting.filter((one) => one.edit > edit);
  for (const one of waiting) if (one.edit <= edit) delays.push(performance.now() - one.at);
  if (left.length > 0) underWay.set(account, left);
  else underWay.delete(account);
}

async function fourCalls(address, id) {
  const begun = performance.now();
  for (let call = 0; call < 4; call += 1) await (await fetch(`${address}/records/${id}`)).text();
  return performance.now() - begun;
}

function tellMemory(at) {
  const held = [...processes].map(([name, { pid }]) => {
    const [, kilobytes] = /VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8')) ?? [];
    return `${name} ${(Number(kilobytes) / 1024).toFixed(0)} MB`;
  });
  console.log(`after ${at.toFixed(0).padStart(4)} s: ${held.join(', ')}; ${underWay.size} accounts under way`);
}

function report(floor) {
  const at = (values, share) => values.toSorted((one, other) => one - other)[Math.floor(values.length * share)] ?? 0;
  const [median, late, latest] = [at(delays, 0.5), at(delays, 0.95), Math.max(...delays)];
  const calls = at(floor, 0.5);
  const line = (name, ms) =>
    console.log(`${name.padEnd(38)} ${ms.toFixed(0).padStart(7)} ms ${(ms / calls).toFixed(1)} ×`);
  line('four calls of a system (the floor)', calls);
  line('from an edit to its value, median', median);
  line('95th percentile', late);
  line('the latest', latest);
  const lost = [...underWay.values()].reduce((sum, waiting) => sum + waiting.length, 0);
  console.log(`${delays.length} edits arrived, ${lost} did not`);
  if (lost > 0) console.log(`of the accounts ${[...underWay.keys()].join(', ')}`);
}
