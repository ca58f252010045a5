/** What a person is told when a system is not as described: one thing wrong at a time, on a real server. */
import { setFlagsFromString } from 'node:v8';
import { runInNewContext } from 'node:vm';
import { createServer, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { httpSystemSchema } from '@anchor-knot/contracts';
import { AddressFilter } from './addressFilter.js';
import { HttpConnector } from './http/httpConnector.js';
import { probeSystem } from './probe.js';

setFlagsFromString('--expose-gc');
const collectGarbage = runInNewContext('gc') as () => void;

type Answering = (path: string, answer: ServerResponse) => void;
let server: Server;
let answering: Answering;
const addresses = new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] });
const dependencies = {
  clock: { now: () => Date.now(), sleep: async () => undefined },
  random: () => 0,
  addresses,
  folder: '/',
  credential: { id: 'id', secret: 'secret' },
};
const json =
  (value: unknown, headers: Record<string, string> = {}, status = 200): Answering =>
  (_, answer) =>
    void answer.writeHead(status, { 'content-type': 'application/json', ...headers }).end(JSON.stringify(value));
const things = (path: string) =>
  path.startsWith('/things?') ? { items: [{ id: 'a/ü?' }], next: null } : { id: 'a/ü?' };

beforeAll(async () => {
  server = createServer((request, answer) => answering(request.url ?? '', answer)).listen(0, '127.0.0.1');
  await new Promise((done) => server.once('listening', done));
});
afterAll(() => void server.close());

function system(more: object = {}, list: object = {}) {
  return httpSystemSchema.parse({
    kind: 'http',
    name: 'S',
    address: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    signIn: { kind: 'key and secret' },
    timeoutMs: 400,
    objects: {
      things: {
        key: 'id',
        list: {
          path: '/things',
          items: 'items',
          pageSize: { parameter: 'n', value: 1 },
          paging: { kind: 'cursor', parameter: 'c', next: 'next' },
          ...list,
        },
        read: { path: '/things/{key}' },
      },
    },
    ...more,
  });
}
async function told(answers: Answering, more: object = {}): Promise<string> {
  answering = answers;
  const { steps } = await probeSystem(system(more), dependencies);
  const notable = steps.find(({ state }) => state === 'failed' || state === 'doubtful');
  return notable ? `${notable.name}: ${notable.says} ${notable.advice}` : 'good';
}

test('a system as described is good, also with keys that have slashes and other letters in them', async () => {
  const asked: string[] = [];
  expect(
    await told((path, answer) => {
      asked.push(path);
      json(things(path))(path, answer);
    }),
  ).toBe('good');
  expect(asked.at(-1)).toBe('/things/a%2F%C3%BC%3F');
});

test.each<[string, Answering, RegExp, object?]>([
  [
    'a refused sign-in',
    json({ error: 'bad key' }, {}, 401),
    /^Sign in: S refused the sign-in: bad key Check the credential/,
  ],
  ['a role that may not read', json({ detail: 'no rights' }, {}, 403), /^Read things: .*no rights Give the account/],
  ['nothing at that path', json({}, {}, 404), /^Read things: .*nothing at \/things/],
  [
    'HTML where JSON was meant',
    (_, answer) => void answer.end('<html>Please sign in</html>'),
    /^Read things: .*not JSON.*may lead to a sign-in page/,
  ],
  ['a list in another place', json({ data: [] }), /^Read things: .*without a list at “items”/],
  ['a server that fails', json({ message: 'boom' }, {}, 500), /^Read things: .*500: boom Try again later/],
  ['a server that never answers', () => undefined, /^Read things: S cannot be reached/],
  [
    'an answer that never ends',
    (_, answer) => {
      answer.writeHead(200, { 'content-type': 'application/json' }).write('{"items":[');
      const drip = setInterval(() => {
        answer.write(' ');
        // Memory may be collected at any time: the time limit has to outlive that.
        collectGarbage();
      }, 50);
      answer.once('close', () => clearInterval(drip));
    },
    /^Read things: .*its answer did not end in time/,
  ],
  [
    'a record that is listed and cannot be read',
    (path, answer) =>
      json(path.startsWith('/things?') ? things(path) : {}, {}, path.startsWith('/things?') ? 200 : 404)(path, answer),
    /cannot be read by its key/,
  ],
  [
    'a clock that is 9 minutes ahead',
    (path, answer) => json(things(path), { date: new Date(Date.now() + 540_000).toUTCString() })(path, answer),
    /^Clock: its clock is 9 minutes ahead/,
  ],
  [
    'a port where nothing listens',
    json({}),
    /^Reach the host: .*ECONNREFUSED The host is there, and nothing listens on this port/,
    { address: 'http://127.0.0.1:1' },
  ],
  [
    'a server that speaks no TLS',
    json({}),
    /^TLS: S: it speaks no TLS on this port Use http, or another port/,
    { tls: true },
  ],
])('%s is named, with what to do', async (_, answers, says, more = {}) => {
  const { port } = server.address() as AddressInfo;
  expect(await told(answers, 'tls' in more ? { address: `https://127.0.0.1:${port}` } : more)).toMatch(says);
});

async function read(answers: Answering): Promise<string> {
  answering = answers;
  const connector = new HttpConnector(system(), 'things', dependencies);
  try {
    let records = 0;
    let unusable = 0;
    for await (const page of connector.read({})) {
      records += page.records.length;
      unusable += page.unusable.length;
    }
    return `${records} read, ${unusable} unusable`;
  } catch (error) {
    return (error as Error).message;
  } finally {
    await connector.close();
  }
}

test(
  'a cursor that repeats ends with words, not never; a listing without an end is left when ' + 'nobody wants more',
  async () => {
    expect(await read(json({ items: [{ id: 1 }], next: 'same' }))).toMatch(/leads in a circle/);
    let pages = 0;
    answering = (path, answer) => json({ items: [{ id: (pages += 1) }], next: `page${pages}` })(path, answer);
    const connector = new HttpConnector(system(), 'things', dependencies);
    for await (const _ of connector.read({})) if (pages > 20) break;
    await connector.close();
    expect(pages).toBeLessThan(25);
  },
);

test(
  'records without a key are counted and left, repeated ones come as they are, and a field of ' + '10 MB is read',
  async () => {
    expect(
      await read(
        json({
          items: [{ id: 1 }, { name: 'nobody' }, 'text', null, { id: 1 }, { id: 2, note: 'x'.repeat(10_000_000) }],
          next: null,
        }),
      ),
    ).toBe('3 read, 3 unusable');
  },
);
