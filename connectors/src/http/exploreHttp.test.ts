/**
 * What is asked of a JSON interface before it is described: its units, its own description; and what webhooks it keeps.
 */
import { createHmac } from 'node:crypto';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { type HttpSystem, httpSystemSchema, webhooksSchema } from '@anchor-knot/contracts';
import { Webhook } from 'standardwebhooks';
import { AddressFilter } from '../addressFilter.js';
import { fetchDocument, listUnits } from './exploreHttp.js';
import { Subscriptions, verifyDelivery } from './webhooks.js';

let server: Server;
let asked: { method: string; path: string; headers: Record<string, unknown>; body: string }[] = [];
let answers: (path: string, method: string) => [number, unknown, Record<string, string>?];
const addresses = new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] });
const dependencies = { clock: { now: () => Date.now(), sleep: async () => undefined }, random: () => 0, addresses };
beforeAll(async () => {
  server = createServer((request, response) => {
    const parts: Buffer[] = [];
    request.on('data', (part: Buffer) => parts.push(part));
    request.on('end', () => {
      asked.push({
        method: request.method ?? '',
        path: request.url ?? '',
        headers: request.headers,
        body: Buffer.concat(parts).toString(),
      });
      const [status, body, headers] = answers(request.url ?? '', request.method ?? '');
      response
        .writeHead(status, { 'content-type': 'application/json', ...headers })
        .end(typeof body === 'string' ? body : JSON.stringify(body));
    });
  }).listen(0, '127.0.0.1');
  await new Promise((done) => server.once('listening', done));
});
afterAll(() => void server.close());
beforeEach(() => (asked = []));
const address = (): string => `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
const system = (more: object): HttpSystem =>
  httpSystemSchema.parse({
    kind: 'http',
    name: 'S',
    address: address(),
    signIn: { kind: 'none' },
    timeoutMs: 1000,
    objects: {},
    ...more,
  });

describe('units', () => {
  const unit = {
    list: { path: '/companies', items: 'data', id: 'no', name: 'title' },
    header: 'X-Company',
    chosen: 'c1',
  };

  test('are listed without the one that is chosen, whatever their ids are', async () => {
    answers = () => [
      200,
      '{"data":[{"no":12345678901234567890,"title":"One"},{"no":"c2"},{"title":"without an id"},null]}',
    ];
    expect(await listUnits(system({ unit }), dependencies)).toEqual([
      { id: '12345678901234567890', name: 'One' },
      { id: 'c2', name: 'c2' },
    ]);
    expect(asked[0]?.headers).not.toHaveProperty('x-company');
  });

  test('a system without units has none, and one that does not tell them says so', async () => {
    expect(await listUnits(system({}), dependencies)).toEqual([]);
    answers = () => [200, { companies: [] }];
    await expect(listUnits(system({ unit }), dependencies)).rejects.toThrow(/does not say which units there are/);
    answers = () => [403, { message: 'not for you' }];
    await expect(listUnits(system({ unit }), dependencies)).rejects.toThrow(/not for you/);
  });
});

describe('a document by its address', () => {
  test('is fetched as it is', async () => {
    answers = () => [200, 'openapi: 3.1.0\ninfo: { title: Größe }'];
    expect(await fetchDocument(`${address()}/api.yaml`, addresses)).toContain('Größe');
  });

  test.each<[string, () => ReturnType<typeof answers>, RegExp]>([
    ['is not there', () => [404, 'no'], /answered 404/],
    [
      'is elsewhere',
      () => [302, '', { location: 'http://169.254.169.254/x' }],
      /leads on to http:\/\/169\.254\.169\.254\/x/,
    ],
  ])('that %s is said to be', async (_, given, says) => {
    answers = given;
    await expect(fetchDocument(`${address()}/x`, addresses)).rejects.toThrow(says);
    expect(asked).toHaveLength(1);
  });

  test('is not fetched from where systems may not be', async () => {
    await expect(fetchDocument('http://169.254.169.254/latest/meta-data', addresses)).rejects.toThrow(
      /no address of a system/,
    );
    await expect(fetchDocument(`${address()}/x`, new AddressFilter({ allowed: [], own: [] }))).rejects.toThrow(
      /private network/,
    );
    await expect(
      fetchDocument(
        `${address()}/x`,
        new AddressFilter({
          allowed: ['127.0.0.0/8'],
          own: [{ host: 'localhost', port: Number(new URL(address()).port) }],
        }),
      ),
    ).rejects.toThrow(/own database/);
    expect(asked).toEqual([]);
  });
});

describe('subscriptions at the other side', () => {
  const webhooks = {
    path: '/hooks',
    items: 'list',
    id: 'meta.id',
    address: 'target.url',
    secret: 'target.key',
    events: 'on',
    active: { field: 'enabled', value: 'true' },
    signature: { kind: 'standard webhooks' },
  };
  const using = async <T>(work: (there: Subscriptions) => Promise<T>): Promise<T> => {
    const there = new Subscriptions(system({ webhooks }), dependencies);
    try {
      return await work(there);
    } finally {
      await there.close();
    }
  };

  test('are read and made in the form that is described, nested or not', async () => {
    answers = (_, method) =>
      method === 'POST'
        ? [201, { meta: { id: 7 } }]
        : [
            200,
            {
              list: [
                { meta: { id: 'a' }, target: { url: 'u' }, enabled: true },
                { meta: { id: 8 }, enabled: false },
                {},
              ],
            },
          ];
    expect(await using((there) => there.list())).toEqual([
      { id: 'a', address: 'u', active: true },
      { id: '8', address: '', active: false },
    ]);
    expect(
      await using((there) => there.register({ address: 'https://x/hooks/1', secret: 's', events: ['e1', 'e2'] })),
    ).toBe('7');
    expect(JSON.parse(asked.at(-1)?.body ?? '')).toEqual({
      target: { url: 'https://x/hooks/1', key: 's' },
      on: ['e1', 'e2'],
    });
  });

  test('one whose making was not answered is looked for before it is made again', async () => {
    answers = (_, method) =>
      method === 'POST' ? [500, {}] : [200, { list: [{ meta: { id: 'made' }, target: { url: 'https://x/hooks/1' } }] }];
    expect(await using((there) => there.register({ address: 'https://x/hooks/1', secret: 's', events: [] }))).toBe(
      'made',
    );
    answers = (_, method) => (method === 'POST' ? [500, {}] : [200, { list: [] }]);
    await expect(
      using((there) => there.register({ address: 'https://x/hooks/1', secret: 's', events: [] })),
    ).rejects.toThrow(/did not take the subscription/);
  });

  test('refusals are told in the words of the system; what is gone already is removed', async () => {
    answers = () => [422, { message: 'url is not reachable' }];
    await expect(using((there) => there.register({ address: 'x', secret: 's', events: [] }))).rejects.toThrow(
      /url is not reachable/,
    );
    answers = () => [200, []];
    await expect(using((there) => there.list())).rejects.toThrow(/there is no list in the answer/);
    answers = () => [410, {}];
    await using((there) => there.remove('a/b'));
    expect(asked.at(-1)?.path).toBe('/hooks/a%2Fb');
    answers = () => [400, { error: 'still needed' }];
    await expect(using((there) => there.remove('a'))).rejects.toThrow(/still needed/);
  });
});

describe('a delivery', () => {
  const base = { path: '/h', id: 'id', address: 'url', secret: 'secret', events: 'events' };
  const body = Buffer.from('{"type":"x","data":{"name":"Größe"}}');
  const now = 1_800_000_000_000;
  const timed = webhooksSchema.parse({
    ...base,
    signature: { kind: 'hmac sha256', header: 'X-Sign', encoding: 'base64', timeHeader: 'X-Time', idHeader: 'X-Id' },
  });
  const untimed = webhooksSchema.parse({
    ...base,
    signature: { kind: 'hmac sha256', header: 'X-Sign', encoding: 'hex', idHeader: 'X-Id' },
  });
  const signed = (text: Buffer, time: string, secret = 'key') =>
    createHmac('sha256', secret).update(`${time}.`).update(text).digest('base64');

  test('that is signed with its time is known by its id, in seconds as in ISO 8601', () => {
    for (const time of [String(now / 1000), new Date(now).toISOString()])
      expect(
        verifyDelivery(timed, 'key', { 'x-sign': signed(body, time), 'x-time': time, 'x-id': 'd1' }, body, now),
      ).toBe('d1');
  });

  test.each<[string, (time: string) => Record<string, string>, RegExp, number?]>([
    [
      'of another secret',
      (time) => ({ 'x-sign': signed(body, time, 'other'), 'x-time': time, 'x-id': 'd' }),
      /signature is not right/,
    ],
    [
      'whose body was changed',
      (time) => ({ 'x-sign': signed(Buffer.from('{}'), time), 'x-time': time, 'x-id': 'd' }),
      /signature is not right/,
    ],
    [
      'whose time was changed',
      (time) => ({ 'x-sign': signed(body, time), 'x-time': String(Number(time) + 1), 'x-id': 'd' }),
      /signature is not right/,
    ],
    [
      'of a while ago',
      (time) => ({ 'x-sign': signed(body, time), 'x-time': time, 'x-id': 'd' }),
      /not sent just now/,
      301_000,
    ],
    [
      'of the future',
      (time) => ({ 'x-sign': signed(body, time), 'x-time': time, 'x-id': 'd' }),
      /not sent just now/,
      -301_000,
    ],
    ['without an id', (time) => ({ 'x-sign': signed(body, time), 'x-time': time }), /header is missing/],
    ['without a time', (time) => ({ 'x-sign': signed(body, time), 'x-id': 'd' }), /header is missing/],
    ['without a signature', (time) => ({ 'x-time': time, 'x-id': 'd' }), /signature is not right/],
    [
      'whose signature is no encoding of anything',
      (time) => ({ 'x-sign': '💥', 'x-time': time, 'x-id': 'd' }),
      /signature is not right/,
    ],
  ])('%s is refused', (_, headers, says, later = 0) => {
    expect(() => verifyDelivery(timed, 'key', headers(String(now / 1000)), body, now + later)).toThrow(says);
  });

  test(
    'without a time in the signature is known by what it says: the same again is a replay, whatever ' + 'id it claims',
    () => {
      const sign = createHmac('sha256', 'key').update(body).digest('hex');
      const first = verifyDelivery(untimed, 'key', { 'x-sign': `sha256=${sign}`, 'x-id': 'one' }, body, now);
      expect(verifyDelivery(untimed, 'key', { 'x-sign': sign, 'x-id': 'two' }, body, now)).toBe(first);
    },
  );

  test(
    'by the Standard Webhooks specification is taken from who knows the secret, also among ' + 'several signatures',
    () => {
      const standard = webhooksSchema.parse({ ...base, signature: { kind: 'standard webhooks' } });
      const secret = `whsec_${Buffer.from('a long enough secret').toString('base64')}`;
      const sentAt = new Date();
      const headers = {
        'webhook-id': 'msg_1',
        'webhook-timestamp': String(Math.floor(sentAt.getTime() / 1000)),
        'webhook-signature': `v1,AAAA ${new Webhook(secret).sign('msg_1', sentAt, body)}`,
      };
      expect(verifyDelivery(standard, secret, headers, body, Date.now())).toBe('msg_1');
      expect(() => verifyDelivery(standard, secret, { ...headers, 'webhook-id': 'msg_2' }, body, Date.now())).toThrow();
      expect(() => verifyDelivery(standard, secret, {}, body, Date.now())).toThrow();
    },
  );
});
