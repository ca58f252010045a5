/** A system whose clock runs ahead, or that names no zone, is asked in its own time, and believed in ours. */
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { odataSystemSchema, httpSystemSchema, type SystemTimes } from '@anchor-knot/contracts';
import { AddressFilter } from './addressFilter.js';
import type { Connector } from './connector.js';
import { HttpConnector } from './http/httpConnector.js';
import { ODataConnector } from './odata/odataConnector.js';
import { readTextTime, readTime, writeLocalTime, writeTime } from './times.js';

const hour = 3_600_000;
let now = Date.parse('2026-07-01T10:00:00Z');
/** By how much the system's header, and its times of changes, are ahead. */
let [headerAhead, timesAhead] = [0, 0];
let write = (time: number): string => new Date(time).toISOString();
const records: { Id: string; Changed: string }[] = [];

const server = createServer((request, response) => {
  const query = new URL(request.url ?? '', 'http://x').searchParams;
  const since = query.get('since') ?? query.get('$filter')?.replace('Changed ge ', '');
  const value = records.filter(({ Changed }) => since === undefined || since === null || Changed >= since);
  response.setHeader('date', new Date(now + headerAhead).toUTCString());
  response.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify({ value }));
});
beforeAll(async () => new Promise<void>((done) => void server.listen(0, '127.0.0.1', done)));
afterAll(() => server.close());

const dependencies = {
  clock: { now: () => now, sleep: async () => undefined },
  random: () => 0,
  addresses: new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] }),
};
function common(times?: SystemTimes) {
  const address = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  return { name: 'Ahead', address, signIn: { kind: 'none' }, ...(times ? { times } : {}) };
}
const overOData = (times?: SystemTimes): Connector =>
  new ODataConnector(
    odataSystemSchema.parse({
      kind: 'odata',
      ...common(times),
      objects: { things: { entitySet: 'Things', key: 'Id', modifiedAt: 'Changed' } },
    }),
    'things',
    dependencies,
  );
const overHttp = (times?: SystemTimes, format = 'iso'): Connector =>
  new HttpConnector(
    httpSystemSchema.parse({
      kind: 'http',
      ...common(times),
      objects: {
        things: {
          key: 'Id',
          modifiedAt: { field: 'Changed', format },
          list: {
            path: '/things',
            items: 'value',
            pageSize: { parameter: 'limit', value: 100 },
            paging: { kind: 'link header' },
            changedSince: { parameter: 'since', format },
          },
          read: { path: '/things/{key}' },
        },
      },
    }),
    'things',
    dependencies,
  );

async function readAll(connector: Connector, changedSince?: number) {
  const found: (readonly [key: string, ours: number | undefined])[] = [];
  for await (const page of connector.read({ changedSince }))
    found.push(...page.records.map(({ key, modifiedAt }) => [key, modifiedAt] as const));
  return found;
}

/** A whole reading, an edit a minute later, and a reading of what changed since, as runs do it. */
async function noticed(connector: Connector) {
  now = Date.parse('2026-07-01T10:00:00Z');
  records.splice(0, records.length, { Id: 'old', Changed: write(now + timesAhead - hour) });
  await readAll(connector);
  const since = now + connector.clockOffset();
  now += 60_000;
  records.push({ Id: 'edited', Changed: write(now + timesAhead) });
  return { found: await readAll(connector, since), editedAt: now };
}

describe.each([
  ['OData', overOData],
  ['JSON over HTTP', overHttp],
])('%s', (_, open) => {
  beforeEach(() => {
    [headerAhead, timesAhead] = [0, 0];
    write = (time) => new Date(time).toISOString();
  });

  test.each([hour, -hour])('a clock that is %d ms ahead by its own header loses no change', async (ahead) => {
    [headerAhead, timesAhead] = [ahead, ahead];
    const { found, editedAt } = await noticed(open());
    // The header has whole seconds.
    expect(found).toEqual([['edited', expect.closeTo(editedAt, -4)]]);
  });

  test('what a person says of its clock comes before what its header says', async () => {
    [headerAhead, timesAhead] = [0, hour];
    const { found, editedAt } = await noticed(open({ aheadMs: hour }));
    expect(found).toEqual([['edited', editedAt]]);
  });
});

test('times without a zone are asked and believed in the zone that was said', async () => {
  [headerAhead, timesAhead] = [0, 0];
  write = (time) => writeLocalTime(time, 'America/St_Johns');
  const { found, editedAt } = await noticed(overHttp({ zone: 'America/St_Johns' }, 'sql local'));
  expect(found).toEqual([['edited', editedAt]]);
});

test('hours that daylight saving repeats or skips are read the same each time', () => {
  // 25 October 2026: 02:30 comes twice in Amsterdam; 29 March 2026: it does not come.
  expect(readTextTime('2026-10-25 02:30:00', 'Europe/Amsterdam')).toBe(Date.parse('2026-10-25T00:30:00Z'));
  expect(readTextTime('2026-03-29T02:30:00', 'Europe/Amsterdam')).toBe(Date.parse('2026-03-29T01:30:00Z'));
  expect(readTextTime('2026-03-29T02:30:00+09:00', 'Europe/Amsterdam')).toBe(Date.parse('2026-03-28T17:30:00Z'));
});

test('each way of writing a time is read as it is written; what is none is none', () => {
  const time = Date.parse('2026-11-23T10:00:00Z');
  for (const format of ['iso', 'sql utc', 'sql local', 'unix seconds', 'unix milliseconds'] as const)
    expect([format, readTime(format, writeTime(format, time, 'Asia/Kathmandu'), 'Asia/Kathmandu')]).toEqual([
      format,
      time,
    ]);
  expect(readTextTime('Mon, 23 Nov 2026 10:00:00 GMT')).toBe(time);
  for (const text of ['', 'yesterday', '11/23/2026', 'infinity']) expect(readTextTime(text)).toBeUndefined();
  expect(readTime('unix seconds', '')).toBeUndefined();
});
