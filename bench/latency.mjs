/**
 * From an edit in the CRM of the demo to its value in the shop, by webhook: the median and the 95th percentile, next to
 * what the systems' own calls take, measured in the same run. Settings: BENCH_EDITS; BENCH_DELAY_MS: how long each call
 * of the two systems takes besides; BENCH_CUSTOMERS: how many customers both systems have, in a knot of these two that
 * has nothing to write at first; BENCH_LISTING=1: whether another knot of the same records is listed completely all the
 * while.
 */
import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { performance } from 'node:perf_hooks';
import { createInterface } from 'node:readline';
import { setTimeout as wait } from 'node:timers/promises';
import { editOnPage, noFaults } from '@anchor-knot/standins';

const edits = Number(process.env.BENCH_EDITS ?? 60);
const delayMs = Number(process.env.BENCH_DELAY_MS ?? 0);
const customers = Number(process.env.BENCH_CUSTOMERS ?? 0);
const isListing = process.env.BENCH_LISTING === '1';
const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-bench-'));
const root = resolve(import.meta.dirname, '..');
const printed = [];
const demo = spawn(process.execPath, [join(root, 'server/dist/start/startAll.js'), '--throw-away'], {
  env: {
    ...process.env,
    ANCHOR_KNOT_DATA: folder,
    PORT: '4398',
    ...(customers > 0 ? { STANDIN_CUSTOMERS: JSON.stringify({ inBoth: customers, mess: false }) } : {}),
  },
  stdio: ['ignore', 'pipe', 'inherit'],
});
let [here, crm, shop, headers] = ['', '', '', {}];
const addressOf = (name) => printed.find((line) => line.includes(`${name}: http`)).split(`${name}: `)[1];

try {
  await new Promise((done) =>
    createInterface({ input: demo.stdout }).on('line', (line) => {
      printed.push(line);
      if (line.startsWith('Ctrl-C')) done();
    }),
  );
  [here, crm, shop] = ['Anchor Knot', 'Fernhill CRM', 'Market Row'].map(addressOf);
  headers = await signIn();
  if (customers > 0) await keepTwoMembers();
  await runWhole('customers');
  // The systems tell of what the first run wrote.
  await wait(customers > 0 ? 30_000 : 5000);
  if (isListing) await addListedKnot();
  for (const system of [crm, shop])
    await fetch(`${system}/faults.json`, {
      method: 'PUT',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ ...noFaults, callsPerSecond: 0, delayMs }),
    });
  const shown = async (town) => (await (await fetch(`${shop}/records/77051`)).text()).includes(`value="${town}"`);
  const [took, calls, parts] = [[], [], new Map()];
  const isOver = new AbortController();
  const listing = isListing ? listAllTheWhile(isOver.signal) : Promise.resolve(0);
  for (let edit = 0; edit < edits; edit += 1) {
    const town = `Marrowby ${edit}`;
    const editedAt = Date.now();
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
    for (const [part, ms] of await partsSince(editedAt)) parts.set(part, [...(parts.get(part) ?? []), ms]);
  }
  isOver.abort();
  if (isListing) console.log(`${await listing} complete listings of another knot went on meanwhile`);
  report('four calls of such a system (the floor)', calls, calls);
  report('from the edit to the value elsewhere', took, calls);
  for (const [part, times] of parts) report(`  ${part}`, times, calls);
} finally {
  const ended = new Promise((done) => demo.once('exit', done));
  demo.kill('SIGINT');
  await ended;
  rmSync(folder, { recursive: true, force: true });
}

async function signIn() {
  const session = await fetch(`${here}/api/session`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ email: 'ottilie@hazelmoor.example', password: 'glasshouse-admin' }),
  });
  return {
    'content-type': 'application/json',
    cookie: session.headers
      .getSetCookie()
      .map((cookie) => cookie.split(';')[0])
      .join('; '),
    'x-csrf-token': (await session.json()).csrfToken,
  };
}

async function ask(method, path, body) {
  const answer = await fetch(`${here}/api/${path}`, { method, headers, body: JSON.stringify(body) });
  if (!answer.ok) throw new Error(`${method} ${path}: ${answer.status} ${await answer.text()}`);
  return answer.json();
}

/** How long the parts of the first run after an edit took, in milliseconds. */
async function partsSince(editedAt) {
  const { runs } = await ask('GET', 'runs?knot=customers');
  const run = runs.findLast(({ startedAt }) => Date.parse(startedAt) >= editedAt);
  if (!run) return [];
  const steps = run.progress.steps.map(({ phase, ms }) => [phase, ms]);
  return [['until its run began', Date.parse(run.startedAt) - editedAt], ...steps];
}

async function runWhole(knot) {
  const { run } = await ask('POST', `knots/${knot}/runs`, { kind: 'run', full: true, overGuards: true });
  const isOver = async () => (await ask('GET', `runs/${run}`)).run?.endedAt;
  while (!(await isOver())) await wait(200);
}

/** The demo's knot without the other systems, so that the first run has nothing to write. */
async function keepTwoMembers() {
  const { definition, basedOn } = await ask('GET', 'knots/customers/draft');
  const kept = new Set(['crm', 'shop']);
  definition.members = definition.members.filter(({ id }) => kept.has(id));
  for (const member of definition.members) {
    member.may = { create: false, update: member.id === 'shop' };
    delete member.outcomes;
    delete member.guards;
  }
  for (const field of definition.fields) {
    for (const id of Object.keys(field.mappings)) if (!kept.has(id)) delete field.mappings[id];
    field.rule.steps = [{ step: 'newest' }, { step: 'ask' }];
  }
  definition.fields = definition.fields.filter(({ mappings }) => Object.keys(mappings).length > 0);
  const ids = new Set(definition.fields.map(({ id }) => id));
  definition.keyRules = definition.keyRules.filter(({ fields }) => fields.every(({ field }) => ids.has(field)));
  delete definition.evidence;
  definition.checks = [];
  await ask('PUT', 'knots/customers/definition', { definition, basedOn });
}

/** The demo's knot between the two systems, under another name: it reads, and writes nothing. */
async function addListedKnot() {
  const file = JSON.parse(readFileSync(join(root, 'server/demo/customers.knot.json'), 'utf8'));
  const { knot } = file;
  knot.members = knot.members.filter(({ id }) => id === 'crm' || id === 'shop');
  for (const member of knot.members) {
    Object.assign(member, { may: { create: false, update: false }, guards: {} });
    delete member.carries;
  }
  knot.fields = knot.fields.filter(({ id }) => id === 'company' || id === 'email');
  knot.keyRules = knot.keyRules.slice(0, 1);
  for (const { mappings } of knot.fields) {
    delete mappings.erp;
    mappings.crm.direction = 'from';
    delete mappings.shop;
  }
  knot.fields[1].mappings.shop = { field: 'mail', direction: 'from', steps: [] };
  for (const { rule } of knot.fields) rule.steps = [{ step: 'ask' }];
  delete knot.evidence;
  const definition = { ...knot, id: 'listed', name: 'Listed', checks: [], crosswalks: {} };
  await ask('POST', 'knots/import', { file: { ...file, knot: definition } });
  await ask('PUT', 'knots/listed/definition', { definition, basedOn: 0, draft: 1, note: '' });
}

async function listAllTheWhile(signal) {
  let listings = 0;
  while (!signal.aborted) {
    await runWhole('listed');
    listings += 1;
  }
  return listings;
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
