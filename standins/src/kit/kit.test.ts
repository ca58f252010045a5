/**
 * What all stand-ins stand on: records that outlive a crash, pages that show them, faults that can be switched,
 * webhooks.
 */
import { createServer, type IncomingMessage } from 'node:http';
import type { AddressInfo } from 'node:net';
import { appendFileSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as wait } from 'node:timers/promises';
import { Webhook } from 'standardwebhooks';
import { FaultSwitch } from './faults.js';
import { RecordLog } from './recordLog.js';
import { registerRecordPages } from './recordPages.js';
import { standInServer } from './serve.js';
import { Webhooks } from './webhooks.js';

let folder: string;
const closing: (() => Promise<unknown>)[] = [];
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'stand-in-kit-'));
});
afterEach(async () => {
  for (const close of closing.splice(0).toReversed()) await close();
  rmSync(folder, { recursive: true, force: true });
});

type Row = { id: string; name: string };

test('a record log holds the last word on each record, also after a crash in the middle of a line', () => {
  const path = join(folder, 'deep/rows.jsonl');
  const log = new RecordLog<Row>(path);
  for (const row of [
    { id: 'a', name: 'one' },
    { id: 'b', name: 'two\nlines' },
    { id: 'a', name: 'uno' },
  ])
    log.put(row);
  log.remove('b');
  log.put({ id: 'c', name: 'three' });
  appendFileSync(path, '{"id":"d","na');
  const again = new RecordLog<Row>(path);
  expect(again.all()).toEqual([
    { id: 'a', name: 'uno' },
    { id: 'c', name: 'three' },
  ]);
  expect(readFileSync(path, 'utf8').trim().split('\n')).toHaveLength(2);
  expect(new RecordLog<Row>(path).get('b')).toBeUndefined();
});

test('records are given in order of their ids, also after some were added or taken away', () => {
  const log = new RecordLog<Row>();
  const ids = (after?: string) => [...log.after(after)].map(({ id }) => id);
  log.load(['d', 'b'].map((id) => ({ id, name: 'x' })));
  expect([ids(), ids('b'), ids('c'), ids('d')]).toEqual([['b', 'd'], ['d'], ['d'], []]);
  log.put({ id: 'c', name: 'x' });
  log.remove('d');
  expect(ids()).toEqual(['b', 'c']);
  expect([...log.after('b')]).toEqual([{ id: 'c', name: 'x' }]);
});

async function pages(remove?: (id: string) => Promise<void>) {
  const rows = new Map<string, Row>([['a/b', { id: 'a/b', name: '<b>"One" & two</b>' }]]);
  const app = await standInServer();
  registerRecordPages(app, {
    name: 'Test <System>',
    noun: ['thing', 'things'],
    fields: [{ name: 'name', label: 'Name' }],
    columns: ['Name'],
    list: async () => [...rows.values()].map(({ id, name }) => ({ id, cells: [name] })),
    show: async (id) => rows.get(id),
    ...(remove ? { remove: async (id: string) => (rows.delete(id), remove(id)) } : {}),
    save: async (id, form) => {
      if (form.name === '') return { refused: 'a <name> is needed' };
      rows.set(id ?? 'new', { id: id ?? 'new', name: form.name ?? '' });
      return { id: id ?? 'new' };
    },
  });
  closing.push(() => app.close());
  return { rows, address: await app.listen({ host: '127.0.0.1', port: 0 }) };
}
const post = (url: string, form: Record<string, string> = {}) =>
  fetch(url, { method: 'POST', body: new URLSearchParams(form), redirect: 'manual' });

test('pages show, find, make and change records, whatever is in them, and say what is refused', async () => {
  const { rows, address } = await pages();
  const list = await (await fetch(address)).text();
  expect(list).toContain('&lt;b&gt;&quot;One&quot; &amp; two&lt;/b&gt;');
  expect(list).toContain('/records/a%2Fb');
  expect(await (await fetch(`${address}/?q=nobody`)).text()).toContain('0 records');
  expect(await (await fetch(`${address}/?q=%22ONE`)).text()).toContain('1 records');
  expect((await post(`${address}/records/a%2Fb`, { name: 'changed' })).headers.get('location')).toBe('/records/a%2Fb');
  expect(rows.get('a/b')?.name).toBe('changed');
  expect((await post(`${address}/records`, { name: 'made' })).status).toBe(302);
  expect(rows.get('new')?.name).toBe('made');
  const refused = await post(`${address}/records/a%2Fb`, { name: '' });
  expect([refused.status, await refused.text()]).toEqual([422, expect.stringContaining('a &lt;name&gt; is needed')]);
  expect((await fetch(`${address}/records/nobody`)).status).toBe(404);
  expect((await post(`${address}/records/nobody`, { name: 'x' })).status).toBe(404);
});

test('only where records can be deleted is there a button for it', async () => {
  const without = await pages();
  expect(await (await fetch(`${without.address}/records/a%2Fb`)).text()).not.toContain('Delete');
  expect((await post(`${without.address}/records/a%2Fb/delete`)).status).toBe(404);
  const gone: string[] = [];
  const { address, rows } = await pages(async (id) => void gone.push(id));
  expect(await (await fetch(`${address}/records/a%2Fb`)).text()).toContain('Delete');
  await post(`${address}/records/a%2Fb/delete`);
  expect([gone, rows.size]).toEqual([['a/b'], 0]);
});

test('faults are switched on a page or as JSON, and what is no fault is left out', async () => {
  const app = await standInServer();
  const faults = new FaultSwitch({ delayMs: 5 });
  faults.register(app, 'Test');
  app.get(
    '/call',
    { onRequest: async (request, reply) => faults.before(request, reply, (late) => late.send({ slow: 'down' })) },
    async () => ({ ok: true }),
  );
  closing.push(() => app.close());
  const address = await app.listen({ host: '127.0.0.1', port: 0 });
  await post(`${address}/faults`, { delayMs: '0', errorRate: '1', refuseSignIn: 'on' });
  expect(faults.faults).toMatchObject({ delayMs: 0, errorRate: 1, refuseSignIn: true, brokenPages: false });
  expect((await fetch(`${address}/call`)).status).toBe(500);
  const put = await fetch(`${address}/faults.json`, {
    method: 'PUT',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ errorRate: 0, callsPerSecond: -1, delayMs: 'soon', nonsense: true }),
  });
  expect(await put.json()).toMatchObject({ errorRate: 0, callsPerSecond: 0, delayMs: 0 });
  expect((await fetch(`${address}/call`)).status).toBe(200);
  faults.faults.callsPerSecond = 1;
  const answers = await Promise.all(Array.from({ length: 6 }, () => fetch(`${address}/call`)));
  const late = answers.filter(({ status }) => status === 429);
  expect(late.length).toBeGreaterThanOrEqual(4);
  expect([late[0]?.headers.get('retry-after'), await late[0]?.json()]).toEqual(['1', { slow: 'down' }]);
});

describe('webhooks', () => {
  const secret = `whsec_${Buffer.from('a secret of some length').toString('base64')}`;

  async function receiver(status: () => number) {
    const came: { headers: IncomingMessage['headers']; body: string }[] = [];
    const server = createServer((request, answer) => {
      const parts: Buffer[] = [];
      request.on('data', (part: Buffer) => parts.push(part));
      request.on('end', () => {
        came.push({ headers: request.headers, body: Buffer.concat(parts).toString() });
        answer.writeHead(status()).end();
      });
    }).listen(0, '127.0.0.1');
    await new Promise((done) => server.once('listening', done));
    closing.push(async () => server.close());
    return { came, url: `http://127.0.0.1:${(server.address() as AddressInfo).port}/here` };
  }

  async function sender() {
    const webhooks = new Webhooks({
      name: 'Test',
      dataFile: join(folder, 'w'),
      style: 'standard',
      events: ['thing.changed', 'thing.made'],
    });
    const app = await standInServer();
    webhooks.register(app, '/hooks');
    webhooks.registerPage(app);
    closing.push(() => app.close());
    const address = await app.listen({ host: '127.0.0.1', port: 0 });
    const subscribe = (body: object) =>
      fetch(`${address}/hooks`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify(body),
      });
    const states = async () =>
      ((await (await fetch(`${address}/hooks`)).json()) as { webhooks: { state: string; failed: number }[] }).webhooks;
    return { webhooks, address, subscribe, states };
  }
  const until = async (good: () => boolean | Promise<boolean>): Promise<void> => {
    for (const end = Date.now() + 20_000; Date.now() < end; await wait(20)) if (await good()) return;
    throw new Error('it did not come about');
  };

  test('what is subscribed to is delivered, signed as the specification says, and nothing else is', async () => {
    const { came, url } = await receiver(() => 204);
    const { webhooks, subscribe } = await sender();
    expect((await subscribe({ url, secret, events: ['thing.changed'] })).status).toBe(201);
    webhooks.emit('thing.made', { id: 1 });
    webhooks.emit('thing.changed', { id: 2, name: 'Größe' });
    await until(() => came.length > 0);
    const [{ headers, body }] = came as [(typeof came)[number]];
    expect(new Webhook(secret).verify(body, headers as Record<string, string>)).toMatchObject({
      type: 'thing.changed',
      data: { id: 2, name: 'Größe' },
    });
    expect(came).toHaveLength(1);
  });

  test('one whose deliveries fail again and again is switched off, and survives a restart as it is', async () => {
    let status = 500;
    const { came, url } = await receiver(() => status);
    const { webhooks, subscribe, states } = await sender();
    await subscribe({ url, secret, events: ['thing.changed'] });
    webhooks.emit('thing.changed', { id: 1 });
    await until(async () => (await states())[0]?.failed === 1);
    // Each delivery is tried three times.
    expect(came).toHaveLength(3);
    status = 204;
    webhooks.emit('thing.changed', { id: 2 });
    await until(async () => (await states())[0]?.failed === 0);
    status = 500;
    for (let count = 1; count <= 3; count += 1) {
      webhooks.emit('thing.changed', { id: count });
      await until(async () => (await states())[0]?.failed === count);
    }
    expect(await states()).toMatchObject([{ state: 'off', failed: 3 }]);
    const before = came.length;
    webhooks.emit('thing.changed', { id: 9 });
    await wait(100);
    expect(came).toHaveLength(before);
    expect(await (await sender()).states()).toMatchObject([{ state: 'off' }]);
  });

  test.each<[string, object, RegExp]>([
    ['an address that is none', { url: 'ftp://x', secret, events: ['thing.made'] }, /url must be an address/],
    [
      'a secret that anybody guesses',
      { url: 'http://x', secret: 'short', events: ['thing.made'] },
      /secret is too short/,
    ],
    [
      'an event that there is not',
      { url: 'http://x', secret, events: ['thing.eaten'] },
      /events must be some of thing\.changed, thing\.made/,
    ],
    ['no event', { url: 'http://x', secret, events: [] }, /events must be some of/],
  ])('%s is refused', async (_, body, says) => {
    const { subscribe, states } = await sender();
    const answer = await subscribe(body);
    expect([answer.status, ((await answer.json()) as { error: string }).error]).toEqual([
      422,
      expect.stringMatching(says),
    ]);
    expect(await states()).toEqual([]);
  });
});
