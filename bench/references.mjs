/**
 * What a reference costs: a first load and a second, quiet listing of orders in two systems, each order with three
 * texts, and the same where one of them refers to one of a tenth as many customers. The systems are in memory, so that
 * the engine and the database alone are measured; the floor of each is the same knot without the reference, in the
 * same run. Settings: BENCH_ORDERS.
 */
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { performance } from 'node:perf_hooks';
import { compileKnot, LookUps, recordKey, withReferences } from '@anchor-knot/core';
import { clusterFolder, openDatabase, PostgresStore, runKnot, startCluster } from '@anchor-knot/server';
import pg from 'pg';
import { v7 as uuid } from 'uuid';

const orders = Number(process.env.BENCH_ORDERS ?? 100_000);
const customers = Math.ceil(orders / 10);
const pageSize = 1000;
const goal = 1.3;
const folder = mkdtempSync(join(tmpdir(), 'anchor-knot-bench-'));
const cluster = await startCluster(clusterFolder(folder, `bench-${process.pid}`), { throwAway: true });
const client = new pg.Client({ connectionString: cluster.url('postgres') });
await client.connect();
await client.query('create database bench');
await client.end();
const data = await openDatabase(cluster.url('bench'));
const clock = { now: () => Date.now(), sleep: (milliseconds) => new Promise((done) => setTimeout(done, milliseconds)) };

/** A system in memory: it gives its records in pages, and is never written to. */
function systemOf(records) {
  return {
    capabilities: { changesSince: false, batchSize: 1, heldWhole: false, conditionalWrites: true },
    clockOffset: () => 0,
    async *read() {
      for (let at = 0; at < records.length; at += pageSize)
        yield { records: records.slice(at, at + pageSize), unusable: [] };
    },
    readOne: async (key) => records.find((record) => record.key === key),
    describe: async () => undefined,
    close: async () => undefined,
  };
}
const recordsOf = (count, fieldsAt) =>
  Array.from({ length: count }, (_, index) => ({
    key: recordKey(String(1_000_000 + index)),
    version: '1',
    modifiedAt: 0,
    fields: fieldsAt(index),
  }));

const mapping = (field, steps = []) => ({
  field,
  direction: 'from',
  steps,
  absentMeansBlank: false,
  blankAs: 'null',
  drift: 'put back',
});
const member = (id) => ({
  id,
  system: id,
  object: 'records',
  may: { create: false, update: false },
  startsAnchors: true,
  required: [],
  guards: {},
});
function knotOf(id, fields) {
  const compiled = compileKnot({
    id,
    name: id,
    thing: id,
    titleField: 'name',
    start: 'merge',
    members: [member('shop'), member('erp')],
    fields: fields.map(({ id: field, refersTo }) => ({
      id: field,
      name: field,
      type: refersTo ? 'reference' : 'text',
      ...(refersTo ? { refersTo } : {}),
      rule: { steps: [{ step: 'ask' }] },
      mappings: Object.fromEntries(
        ['shop', 'erp'].map((one) => [
          one,
          mapping(field, refersTo ? [{ kind: 'reference', by: { member: one } }] : [{ kind: 'trim' }]),
        ]),
      ),
    })),
    keyRules: [{ name: 'Name', fields: [{ field: 'name', normalise: 'exact' }] }],
    checks: [],
    crosswalks: {},
  });
  if (!compiled.ok) throw new Error(JSON.stringify(compiled.problems));
  return compiled.knot;
}

const customerKey = (index) => String(1_000_000 + (index % customers));
const systems = {
  customers: recordsOf(customers, (index) => ({ name: `customer ${index}` })),
  plain: recordsOf(orders, (index) => ({ name: `order ${index}`, state: 'paid', customer: customerKey(index) })),
};
systems.referring = systems.plain;

async function run(knot) {
  await data.query(`insert into knot (id, name, version_in_force) values ($1, $1, 1) on conflict do nothing`, [
    knot.id,
  ]);
  const started = performance.now();
  const processor = process.cpuUsage();
  const { result } = await runKnot(
    {
      store: new PostgresStore(data),
      clock,
      nextId: () => uuid(),
      connect: async () => systemOf(systems[knot.id]),
      systemName: (one) => one,
      recordPage: () => undefined,
    },
    { knot, knotVersion: 1, kind: 'run', startedBy: 'bench', leaseMs: 3_600_000, full: true },
  );
  if (result.state !== 'succeeded') throw new Error(JSON.stringify(result));
  const used = process.cpuUsage(processor);
  return { seconds: (performance.now() - started) / 1000, processor: (used.user + used.system) / 1e6 };
}

/** What the look-ups themselves cost for each record, once they are filled. */
function inMemory() {
  const names = systems.customers.map(({ key }, index) => ({
    knot: 'customers',
    by: { member: 'shop' },
    value: key,
    anchor: `thing ${index}`,
  }));
  const bound = withReferences(referring, new LookUps(names));
  const lens = bound.fields.find(({ id }) => id === 'customer').mappings.get('shop').lens;
  for (const { fields } of systems.plain) lens.inbound(fields.customer, undefined);
  const started = performance.now();
  for (const { fields } of systems.plain) lens.inbound(fields.customer, undefined);
  return ((performance.now() - started) * 1000) / systems.plain.length;
}

const texts = [{ id: 'name' }, { id: 'state' }, { id: 'customer' }];
const plain = knotOf('plain', texts);
const referring = knotOf('referring', [...texts.slice(0, 2), { id: 'customer', refersTo: 'customers' }]);
try {
  console.log(`${orders} orders in each of two systems, ${customers} customers, pages of ${pageSize}`);
  await run(knotOf('customers', texts.slice(0, 1)));
  await data.query('analyze');
  for (const name of ['first load', 'complete listing, nothing changed']) {
    const floor = await run(plain);
    const measured = await run(referring);
    console.log(
      `${name}: ${measured.seconds.toFixed(2)} s, ${(measured.seconds / floor.seconds).toFixed(2)} times its floor ` +
        `of ${floor.seconds.toFixed(2)} s (goal ${goal}); processor ` +
        `${(measured.processor / floor.processor).toFixed(2)} times`,
    );
  }
  const [{ count }] = await data.query('select count(*)::int as count from anchor_reference');
  console.log(`${count} references stored; read in memory: ${inMemory().toFixed(2)} µs a record (goal 2)`);
} finally {
  await data.destroy();
  cluster.stop();
  rmSync(clusterFolder(folder, `bench-${process.pid}`), { recursive: true, force: true });
  rmSync(folder, { recursive: true, force: true });
}
