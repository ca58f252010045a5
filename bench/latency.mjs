/**
 * From an edit in the CRM of the demo to its value in the shop, by webhook: the median and the 95th percentile, next to
 * what the systems' own calls take, measured in the same run. Settings: BENCH_EDITS, and BENCH_DELAY_MS: how long each
 * call of the two systems takes besides.
 */
import { spawn } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { performance } from 'node:perf_hooks';
import { createInterface } from 'node:readline';
import { setTimeout as wait } from 'node:timers/promises';
import { editOnPage, noFaults } from '@anchor-knot/standins';

const edits = Number(process.env.BENCH_EDITS ?? 60);
const delayMs = Number(process.env.BENCH_DELAY_MS ?? 0);
const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-bench-'));
const root = resolve(import.meta.dirname, '..');
const printed = [];
const demo = spawn(process.execPath, [join(root, 'server/dist/start/startAll.js'), '--throw-away'], {
  env: { ...process.env, ANCHOR_KNOT_DATA: folder, PORT: '4398' },
  stdio: ['ignore', 'pipe', 'inherit'],
});
const addressOf = (name) => printed.find((line) => line.includes(`${name}: http`)).split(`${name}: `)[1];

try {
  await new Promise((done) =>
    createInterface({ input: demo.stdout }).on('line', (line) => {
      printed.push(line);
      if (line.startsWith('Ctrl-C')) done();
    }),
  );
  const [here, crm, shop] = ['Anchor Knot', 'Fernhill CRM', 'Market Row'].map(addressOf);
  await firstRun(here);
  for (const system of [crm, shop])
    await fetch(`${system}/faults.json`, {
      method: 'PUT',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ ...noFaults, callsPerSecond: 0, delayMs }),
    });
  const shown = async (town) => (await (await fetch(`${shop}/records/77051`)).text()).includes(`value="${town}"`);
  const [took, calls] = [[], []];
  for (let edit = 0; edit < edits; edit += 1) {
    const town = `Marrowby ${edit}`;
    await editOnPage(crm, 'A-20051', { 'address.town': town });
    const begun = performance.now();
    while (!(await shown(town))) await wait(2);
    took.push(performance.now() - begun);
    // What no engine can do without: the event, what changed, the record as it is now, and the write.
    const floor = performance.now();
    for (let call = 0; call < 4; call += 1) {
      await fetch(`${shop}/records/77051`);
      await wait(delayMs);
    }
    calls.push(performance.now() - floor);
    // What we wrote is told of as well; the next edit meets an installation at rest.
    await wait(400 + 10 * delayMs);
  }
  report('four calls of such a system (the floor)', calls, calls);
  report('from the edit to the value elsewhere', took, calls);
} finally {
  const ended = new Promise((done) => demo.once('exit', done));
  demo.kill('SIGINT');
  await ended;
  rmSync(folder, { recursive: true, force: true });
}

async function firstRun(here) {
  const session = await fetch(`${here}/api/session`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ email: 'ottilie@hazelmoor.example', password: 'glasshouse-admin' }),
  });
  const headers = {
    'content-type': 'application/json',
    cookie: session.headers
      .getSetCookie()
      .map((cookie) => cookie.split(';')[0])
      .join('; '),
    'x-csrf-token': (await session.json()).csrfToken,
  };
  const body = JSON.stringify({ kind: 'run' });
  const { run } = await (await fetch(`${here}/api/knots/customers/runs`, { method: 'POST', headers, body })).json();
  const isOver = async () => (await (await fetch(`${here}/api/runs/${run}`, { headers })).json()).run?.endedAt;
  while (!(await isOver())) await wait(200);
  // The systems tell of what the first run wrote.
  await wait(5000);
}

function report(name, times, floor) {
  const at = (values, share) => values.toSorted((one, other) => one - other)[Math.floor(values.length * share)];
  const [median, late] = [at(times, 0.5), at(times, 0.95)];
  const ratio = median / at(floor, 0.5);
  console.log(
    `${name.padEnd(42)} median ${median.toFixed(0).padStart(6)} ms   95th ${late.toFixed(0).padStart(6)} ms` +
      `   ${ratio.toFixed(1).padStart(6)} ×`,
  );
}
