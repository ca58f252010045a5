/**
 * Reading 100,000 records of 30 fields through a connector, and profiling them in one pass. The floor, in the same run:
 * fetching the same pages with the same client and parsing them with JSON.parse, one page after the other. Prints
 * ratios
 * and peak memory. Settings: BENCH_RECORDS.
 */
import { spawn } from 'node:child_process';
import { createServer } from 'node:http';
import { performance } from 'node:perf_hooks';
import { createInterface } from 'node:readline';
import { AddressFilter, HttpConnector } from '@anchor-knot/connectors';
import { httpSystemSchema } from '@anchor-knot/contracts';
import { Profiler } from '@anchor-knot/core';
import { Agent, request } from 'undici';

const records = Number(process.env.BENCH_RECORDS ?? 100_000);
const pageSize = 500;
const rounds = 5;

if (process.argv[2] === 'serve') {
  const pages = Array.from({ length: Math.ceil(records / pageSize) }, (_, page) => {
    const data = Array.from({ length: Math.min(pageSize, records - page * pageSize) }, (_, at) =>
      record(page * pageSize + at),
    );
    return Buffer.from(JSON.stringify({ data, next: (page + 1) * pageSize < records ? String(page + 1) : null }));
  });
  const server = createServer((call, answer) =>
    answer
      .setHeader('content-type', 'application/json')
      .end(pages[Number(new URL(call.url, 'http://x').searchParams.get('cursor') ?? 0)]),
  );
  server.listen(0, '127.0.0.1', () => console.log(server.address().port));
} else await measure();

/** As business records are: texts, numbers, times, choices, blanks, something nested. */
function record(number) {
  const fields = {
    id: `R-${number}`,
    modifiedAt: new Date(1.7e12 + number * 1000).toISOString(),
    name: `Company ${number % 977}`,
    email: `person${number}@example.org`,
  };
  for (let at = 0; at < 8; at += 1) fields[`text${at}`] = `value ${(number * (at + 3)) % 5000} of field ${at}`;
  for (let at = 0; at < 6; at += 1) fields[`number${at}`] = ((number * 37 * (at + 1)) % 100_000) / 100;
  for (let at = 0; at < 4; at += 1) fields[`choice${at}`] = ['red', 'green', 'blue', null][(number + at) % 4];
  for (let at = 0; at < 4; at += 1) fields[`flag${at}`] = (number + at) % 3 === 0;
  return {
    ...fields,
    address: { street: `Street ${number % 400}`, town: `Town ${number % 90}`, zip: String(10_000 + (number % 9000)) },
    note: number % 7 === 0 ? 'a longer note that somebody has written about this one' : '',
  };
}

async function measure() {
  const child = spawn(process.execPath, [import.meta.filename, 'serve'], {
    env: process.env,
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const port = await new Promise((done) => createInterface({ input: child.stdout }).once('line', done));
  try {
    const address = `http://127.0.0.1:${port}`;
    const agent = new Agent({ connections: 1 });
    const floor = async () => {
      let read = 0;
      for (let cursor = '0'; cursor !== null;) {
        const { body } = await request(`${address}/x?limit=${pageSize}&cursor=${cursor}`, { dispatcher: agent });
        const page = JSON.parse(await body.text());
        read += page.data.length;
        cursor = page.next;
      }
      return read;
    };
    const description = httpSystemSchema.parse({
      kind: 'http',
      name: 'Bench',
      address,
      signIn: { kind: 'none' },
      objects: {
        x: {
          key: 'id',
          modifiedAt: { field: 'modifiedAt', format: 'iso' },
          list: {
            path: '/x',
            items: 'data',
            pageSize: { parameter: 'limit', value: pageSize },
            paging: { kind: 'cursor', parameter: 'cursor', first: '0', next: 'next' },
          },
          read: { path: '/x/{key}' },
        },
      },
    });
    const clock = {
      now: () => Date.now(),
      sleep: (milliseconds) => new Promise((done) => setTimeout(done, milliseconds)),
    };
    const through = async (each) => {
      const connector = new HttpConnector(description, 'x', {
        clock,
        random: () => 0,
        addresses: new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] }),
      });
      let read = 0;
      for await (const page of connector.read({})) {
        read += page.records.length;
        if (each) for (const { fields } of page.records) each(fields);
      }
      await connector.close();
      return read;
    };
    const profiled = async () => {
      const profiler = new Profiler();
      const read = await through((fields) => profiler.add(fields));
      const { fields } = profiler.profile();
      return `${read} records, ${fields.length} fields`;
    };
    await floor();
    await through();
    const times = { floor: [], through: [], profiled: [] };
    let peak = 0;
    const timer = setInterval(() => (peak = Math.max(peak, process.memoryUsage().rss)), 20);
    for (let round = 0; round < rounds; round += 1)
      for (const [name, work] of Object.entries({ floor, through, profiled })) {
        globalThis.gc?.();
        const began = performance.now();
        await work();
        times[name].push(performance.now() - began);
      }
    clearInterval(timer);
    const middle = (list) => list.toSorted((one, other) => one - other)[Math.floor(list.length / 2)];
    const [base, read, profile] = [middle(times.floor), middle(times.through), middle(times.profiled)];
    console.log(`floor, fetching and JSON.parse: ${Math.round(base)} ms for ${records} records`);
    console.log(
      `read through the connector:     ${Math.round(read)} ms, ${(read / base).toFixed(2)} times the floor (goal 1.3)`,
    );
    console.log(
      `read and profiled in one pass:  ${Math.round(profile)} ms, ${(profile / base).toFixed(2)} times the ` +
        `floor; ${await profiled()}`,
    );
    console.log(`peak memory ${Math.round(peak / 1024 / 1024)} MB`);
    await agent.close();
  } finally {
    child.kill();
  }
}
