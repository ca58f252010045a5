/**
 * How long the views take to be answered on a large installation: Watch, Anchors with and without search, Decisions, a
 * run's records. Prints the median of each in milliseconds, and as a ratio to the floor: the same server answering a
 * question that needs one row. Settings: BENCH_ANCHORS (100,000 unless given).
 */
import { randomBytes } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { performance } from 'node:perf_hooks';
import { addPerson, clusterFolder, makeApp, openInstallation, ServerEvents, startCluster } from '@anchor-knot/server';
import pg from 'pg';
import { pino } from 'pino';

const anchors = Number(process.env.BENCH_ANCHORS ?? 100_000);
const rounds = 21;
const password = 'bench password';
const { knot } = JSON.parse(readFileSync(new URL('../server/demo/customers.knot.json', import.meta.url), 'utf8'));

const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-bench-'));
const cluster = await startCluster(clusterFolder(folder, `bench-${process.pid}`), { throwAway: true });
const client = new pg.Client({ connectionString: cluster.url('postgres') });
await client.connect();
await client.query('create database bench');
await client.end();
const key = randomBytes(32).toString('base64');
const parts = await openInstallation({
  DATABASE_URL: cluster.url('bench'),
  SECRET_KEY: key,
  REACHABLE_NETWORKS: [],
  FILE_FOLDERS: [],
});
const events = new ServerEvents(cluster.url('bench'), parts.data);
await events.open();
const app = await makeApp(
  { ...parts, events },
  { SECRET_KEY: key, COOKIE_SECURE: false, WEB_FOLDER: undefined },
  pino({ level: 'silent' }),
);
const address = await app.listen({ host: '127.0.0.1', port: 0 });
try {
  const run = await fill();
  const headers = await signIn();
  const ask = async (path) => {
    const answer = await fetch(address + path, { headers });
    if (answer.status !== 200) throw new Error(`${path} answered ${answer.status}: ${await answer.text()}`);
    return answer.json();
  };
  const first = await ask('/api/knots/customers/anchors');
  const last = first.anchors.at(-1);
  const after = new URLSearchParams({ afterId: last.id, afterTitle: last.title }).toString();
  const questions = {
    'one row (the floor)': '/api/session',
    Watch: '/api/watch',
    'Anchors, first page': '/api/knots/customers/anchors',
    'Anchors, next page': `/api/knots/customers/anchors?${after}`,
    'Anchors, those that do not agree': '/api/knots/customers/anchors?state=open',
    'Anchors, a name that few have': `/api/knots/customers/anchors?search=${anchors - 7}`,
    'Anchors, a name that all have': '/api/knots/customers/anchors?search=customer',
    'Anchors, two letters': '/api/knots/customers/anchors?search=cu',
    'Anchors, a name that nobody has': '/api/knots/customers/anchors?search=zzyzx',
    'Search everything': `/api/anchors?search=${anchors - 7}`,
    Decisions: '/api/decisions',
    'Decisions of one system': '/api/decisions?system=fernhill',
    'A run’s records': `/api/runs/${run}/operations`,
    'A run’s records, searched': `/api/runs/${run}/operations?search=${anchors - 7}`,
    'A knot': '/api/knots/customers',
  };
  let floor = 0;
  for (const [name, path] of Object.entries(questions)) {
    const times = [];
    for (let round = 0; round < rounds; round += 1) {
      const begun = performance.now();
      await ask(path);
      times.push(performance.now() - begun);
    }
    const median = times.toSorted((a, b) => a - b)[Math.floor(rounds / 2)];
    floor ||= median;
    console.log(`${name.padEnd(34)} ${median.toFixed(1).padStart(8)} ms ${(median / floor).toFixed(1).padStart(7)} ×`);
  }
} finally {
  await app.close();
  await events.close();
  await parts.close();
  cluster.stop();
  rmSync(folder, { recursive: true, force: true });
}

async function signIn() {
  await addPerson(parts.data, { name: 'Bench', email: 'bench@x.example', role: 'viewer' }, password);
  const answer = await fetch(`${address}/api/session`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ email: 'bench@x.example', password }),
  });
  return {
    cookie: answer.headers
      .getSetCookie()
      .map((cookie) => cookie.split(';')[0])
      .join('; '),
  };
}

/** Anchors with three ties each, a day of journal, decisions on some of them, and a run of which all were planned. */
async function fill() {
  const { data } = parts;
  const crm = { kind: 'member', member: 'crm' };
  const why = { kind: 'edit', members: ['crm'] };
  for (const system of ['fernhill', 'marketRow', 'coldharbour', 'granary'])
    await parts.systems.save({
      id: system,
      description: { kind: 'files', name: system, folder: '/nowhere', objects: {} },
      pennant: { pattern: 'halves', colour: 'petrol', letters: 'FC' },
    });
  await parts.knots.create(knot, 'bench');
  const [{ id: run }] = await data.query(
    `insert into run (id, knot_id, knot_version, kind, started_by, started_at, ended_at, state, token, lease_until)
     values (gen_random_uuid(), 'customers', 1, 'run', 'bench', now() - interval '1 hour', now(), 'succeeded', 1, now())
     returning id`,
  );
  await data.query(
    `insert into anchor (id, knot_id, title, agreed, open, revision, changed_at, began_in)
     select gen_random_uuid(), 'customers', 'Customer ' || n || ' of ' || md5(n::text), '[]', n % 50 = 0, 1, now(),
       '{crm}' from generate_series(1, $1::int) n`,
    [anchors],
  );
  await data.query(
    `insert into tie (knot_id, member, record_key, anchor_id, seen, fingerprint)
     select 'customers', m, upper(left(m, 1)) || '-' || row_number() over (order by a.id), a.id,
       jsonb_build_object('company', a.title, 'phone', '+44 1632 960' || length(a.title)), 'f'
     from anchor a cross join unnest('{crm,shop,erp}'::text[]) m`,
  );
  await data.query(
    `insert into decision (knot_id, identity, kind, anchor_id, member, field, says, detail, fingerprint, opened_at)
     select 'customers', a.id::text, 'held', a.id, null, 'phone', 'Phone was given differently.',
       $1, 'f', now() - interval '2 days' from anchor a where a.open`,
    [JSON.stringify({ base: null, candidates: [{ value: '+441', givers: [crm], at: 0, isAgreed: false }] })],
  );
  await data.query(
    `insert into journal (knot_id, run_id, anchor_id, member, record_key, kind, field, before, after, meaning, cause,
       at)
     select 'customers', $1, a.id, 'shop', 'S-1', 'update', 'phone', '"1"', '"2"', '"2"', $2,
       now() - random() * interval '30 hours' from anchor a, generate_series(1, 3)`,
    [run, JSON.stringify(why)],
  );
  await data.query(
    `insert into plan_operation (run_id, anchor_id, member, kind, record_key, title, changes, state)
     select $1, a.id, 'shop', 'update', 'S-1', a.title, $2, 'written' from anchor a`,
    [run, JSON.stringify([{ field: 'phone', path: 'tel', before: '1', after: '2', meaning: '2', by: crm, why }])],
  );
  await data.query('vacuum analyze');
  return run;
}
