/**
 * One run shared by workers: a first load of which a tenth is written, and complete listings in which nothing changed
 * and in which a tenth is merged again, with one worker process and with two. Ratios are to one worker; the database's
 * share is the processor time of its processes. Settings: BENCH_CUSTOMERS (100,000), BENCH_WORKERS ("1,2").
 */
import { spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { setTimeout as wait } from 'node:timers/promises';
import { clusterFolder, openInstallation, startCluster } from '@anchor-knot/server';
import pg from 'pg';

const customers = Number(process.env.BENCH_CUSTOMERS ?? 100_000);
const counts = (process.env.BENCH_WORKERS ?? '1,2').split(',').map(Number);
const demo = (name) => JSON.parse(readFileSync(new URL(`../server/demo/${name}.json`, import.meta.url), 'utf8'));
const [descriptions, { knot: demoKnot }] = [demo('systems'), demo('customers.knot')];
const here = (path) => new URL(path, import.meta.url).pathname;
const secret = 'bench';

const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-bench-'));
const place = clusterFolder(folder, `bench-${process.pid}`);
const cluster = await startCluster(place, { throwAway: true });
const postmaster = Number(readFileSync(join(place, 'data', 'postmaster.pid'), 'utf8').split('\n')[0]);
try {
  console.log(`${customers} customers in a CRM, nine of ten of them in a shop; one run at a time`);
  const alone = new Map();
  for (const workers of counts) await round(workers, alone);
} finally {
  cluster.stop();
  rmSync(place, { recursive: true, force: true });
  rmSync(folder, { recursive: true, force: true });
}

/** Fresh systems, a fresh database, and so many workers. */
async function round(workers, alone) {
  const children = [];
  const database = `bench${workers}`;
  const client = new pg.Client({ connectionString: cluster.url('postgres') });
  await client.connect();
  await client.query(`create database ${database}`);
  await client.end();
  const environment = {
    ...process.env,
    DATABASE_URL: cluster.url(database),
    SECRET_KEY: randomBytes(32).toString('base64'),
    REACHABLE_NETWORKS: '127.0.0.0/8',
    LOG_LEVEL: 'error',
  };
  const parts = await openInstallation({ ...environment, REACHABLE_NETWORKS: ['127.0.0.0/8'], FILE_FOLDERS: [] });
  try {
    const addresses = { fernhill: await standIn('crm', children), marketRow: await standIn('shop', children) };
    await prepare(parts, addresses);
    const own = Array.from({ length: workers }, () =>
      spawn(process.execPath, [here('../server/dist/workerProcess.js')], { env: environment, stdio: 'inherit' }),
    );
    children.push(...own);
    await wait(3000);
    for (const name of ['first load', 'complete listing, nothing changed', 'complete listing, a tenth merged again']) {
      if (name.endsWith('a tenth merged again')) await forgetTenth(parts);
      const before = processorTimes(own);
      const run = await runOnce(parts);
      const after = processorTimes(own);
      const used = { database: after.database - before.database, workers: after.workers - before.workers };
      if (!alone.has(name)) alone.set(name, run.seconds);
      tell(name, workers, run, used, alone.get(name));
    }
  } finally {
    await parts.close();
    for (const child of children) child.kill('SIGTERM');
    await Promise.all(children.map((child) => child.exitCode ?? new Promise((done) => child.once('exit', done))));
  }
}

async function standIn(which, children) {
  const child = spawn(process.execPath, [here('../standins/dist/main.js'), which], {
    env: {
      ...process.env,
      STANDIN_DATA: mkdtempSync(join(folder, which)),
      STANDIN_ID: 'id',
      STANDIN_SECRET: secret,
      STANDIN_FAULTS: '{"callsPerSecond":0}',
      STANDIN_CUSTOMERS: JSON.stringify({
        inBoth: customers * 0.9,
        onlyCrm: customers * 0.1,
        onlyShop: 0,
        mess: false,
      }),
    },
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  children.push(child);
  const line = await new Promise((done) => createInterface({ input: child.stdout }).once('line', done));
  return line.replace('listening on ', '');
}

async function prepare(parts, addresses) {
  for (const [id, address] of Object.entries(addresses)) {
    const { budget: _, ...description } = { ...descriptions[id], address };
    for (const object of Object.values(description.objects)) object.list.pageSize.value = 1000;
    const pennant = { pattern: 'halves', colour: 'petrol', letters: 'BE' };
    await parts.systems.save({ id, description, pennant, credential: { id: 'id', secret } });
  }
  const members = demoKnot.members
    .filter(({ system }) => system in addresses)
    .map((member) => ({ ...member, guards: {}, startsAnchors: true, may: { create: true, update: true } }));
  const ids = new Set(members.map(({ id }) => id));
  const fields = demoKnot.fields
    .filter(({ mappings }) => [...ids].every((id) => id in mappings))
    .map((field) => ({
      ...field,
      rule: { steps: [{ step: 'order', members: ['crm', 'shop'] }] },
      mappings: { crm: field.mappings.crm, shop: field.mappings.shop },
    }));
  const { evidence: _, ...rest } = demoKnot;
  const keyRules = [{ name: 'Email', fields: [{ field: 'email', normalise: 'email' }] }];
  await parts.knots.create({ ...rest, id: 'k', name: 'K', members, fields, keyRules, checks: [] }, 'bench');
}

/** Every tenth account is no more as it is remembered: it is staged, merged and planned again. */
async function forgetTenth(parts) {
  await parts.data.query(
    `update tie set fingerprint = '' where member = 'crm' and anchor_id in
       (select anchor_id from (select anchor_id, row_number() over () as number from tie where member = 'crm') each
        where number % 10 = 0)`,
  );
}

async function runOnce(parts) {
  const scope = { members: null, records: {}, full: true, overGuards: true };
  const id = await parts.queue.send({ knot: 'k', kind: 'run', startedBy: 'bench', cause: 'person', ...scope });
  for (;;) {
    const [run] = await parts.data.query(
      `select state, words, progress, extract(epoch from ended_at - started_at)::float as seconds from run
       where id = $1 and ended_at is not null`,
      [id],
    );
    if (run && !run.state.startsWith('succeeded')) throw new Error(`the run ${run.state}: ${run.words}`);
    if (run) return run;
    await wait(200);
  }
}

/** Seconds of processor time of some processes, and of the database with those of its processes that have ended. */
function processorTimes(workers) {
  const all = readdirSync('/proc').filter((name) => /^\d+$/.test(name));
  let database = 0;
  for (const pid of all) {
    const stat = statOf(pid);
    if (Number(pid) === postmaster) database += stat.own + stat.ended;
    else if (stat.parent === postmaster) database += stat.own;
  }
  return { database, workers: workers.reduce((sum, { pid }) => sum + statOf(pid).own, 0) };
}

function statOf(pid) {
  try {
    const fields = readFileSync(`/proc/${pid}/stat`, 'utf8')
      .replace(/^.*\) /, '')
      .split(' ')
      .map(Number);
    const ticks = 100;
    return { parent: fields[1], own: (fields[11] + fields[12]) / ticks, ended: (fields[13] + fields[14]) / ticks };
  } catch {
    return { parent: 0, own: 0, ended: 0 };
  }
}

function tell(name, workers, { seconds, progress }, used, alone) {
  const phases = progress.steps.map(({ phase, ms }) => `${phase} ${(ms / 1000).toFixed(1)}`).join(', ');
  const written = Object.values(progress.tally).reduce((sum, tally) => sum + tally.written, 0);
  console.log(
    `${name}, ${workers} worker${workers === 1 ? '' : 's'}: ${seconds.toFixed(1)} s, ` +
      `${(alone / seconds).toFixed(2)} times as fast as with ${counts[0]} (${phases}); ${written} written; ` +
      `processor: workers ${used.workers.toFixed(1)} s, database ${used.database.toFixed(1)} s`,
  );
}
