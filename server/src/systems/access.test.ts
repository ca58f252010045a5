/**
 * What systems allow us: consents given by a person at a provider that we did not write, webhooks over real HTTP,
 * budgets shared by workers.
 */
import { setTimeout as wait } from 'node:timers/promises';
import { httpSystemSchema, type Person } from '@anchor-knot/contracts';
import { type Clock, type ConsentedSystem, SystemTrouble } from '@anchor-knot/connectors';
import { recordKey } from '@anchor-knot/core';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { Webhook } from 'standardwebhooks';
import type { SystemRow } from '../persistence/entities/entities.js';
import { ApiClient } from '../testing/apiClient.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { systemClock } from '../worker/systemClock.js';
import { PostgresCallBudget } from './callBudget.js';
import { consented } from './consents.js';
import { SecretBox } from './secretBox.js';

const person: Person = { name: 'Ottilie Brandt', email: 'ottilie@hazelmoor.example', role: 'administrator' };
const data = generateCustomers({ seed: 3, inBoth: 12, onlyCrm: 2, onlyShop: 2, mess: false });
let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(database, data);
  api = await ApiClient.start(installation);
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});
const rowOf = async (id: string): Promise<SystemRow> => (await installation.parts.systems.find(id)) as SystemRow;

describe('a consent', () => {
  const callback = 'http://127.0.0.1:4300/consent';
  let system: ConsentedSystem;

  /**
   * Does what a person’s browser does at the other side: follows, keeps cookies, presses a button. @returns the query
   * of the callback
   */
  async function visit(url: string, answer: 'allow' | 'deny'): Promise<URLSearchParams> {
    const cookies = new Map<string, string>();
    const go = async (to: string, form?: URLSearchParams): Promise<Response> => {
      const response = await fetch(to, {
        redirect: 'manual',
        headers: { cookie: [...cookies].map(([name, value]) => `${name}=${value}`).join('; ') },
        ...(form ? { method: 'POST', body: form } : {}),
      });
      for (const cookie of response.headers.getSetCookie()) {
        const [, name = '', value = ''] = /^([^=]+)=([^;]*)/.exec(cookie) ?? [];
        cookies.set(name, value);
      }
      return response;
    };
    let at = url;
    for (let steps = 0; steps < 10; steps += 1) {
      if (at.startsWith(callback)) return new URL(at).searchParams;
      const isPage = /\/consent\//.test(at);
      const response = await go(at, isPage ? new URLSearchParams({ who: 'service.exchange', answer }) : undefined);
      const location = response.headers.get('location');
      if (!location) throw new Error(`${at} answered ${response.status}: ${(await response.text()).slice(0, 300)}`);
      at = new URL(location, at).href;
    }
    throw new Error('no end');
  }

  async function give(scope: string): Promise<void> {
    const { consents, systems } = installation.parts;
    await useSignIn(scope);
    const row = await rowOf('fernhill');
    const answer = await visit(
      await consents.begin(row, system, row.credentialId as string, person, callback),
      'allow',
    );
    const state = answer.get('state') as string;
    const begun = await consents.take(state, person);
    if (!begun) throw new Error('not begun');
    await consents.complete(
      row,
      system,
      systems.credential(row) as never,
      { ...begun, state },
      answer,
      person,
      systems.dependencies(row),
    );
  }

  async function useSignIn(scope: string): Promise<void> {
    const row = await rowOf('fernhill');
    const at = `${installation.addresses.crm}/oidc`;
    const signIn = {
      kind: 'authorization code',
      issuer: at,
      authorizationUrl: `${at}/auth`,
      tokenUrl: `${at}/token`,
      revocationUrl: `${at}/token/revocation`,
      scope,
    };
    const description = httpSystemSchema.parse({ ...row.description, signIn });
    await installation.parts.systems.change(row, row.revision, { description, pennant: row.pennant as never });
    system = consented((await rowOf('fernhill')).description) as ConsentedSystem;
  }

  async function readOne() {
    const { systems } = installation.parts;
    const connector = await systems.connect({ system: 'fernhill', object: 'accounts' }, systemClock);
    try {
      return await connector.readOne(recordKey(data.accounts[0]?.id ?? ''));
    } finally {
      await connector.close();
    }
  }

  beforeAll(async () => {
    await fetch(`${installation.addresses.crm}/applications`, {
      method: 'POST',
      body: new URLSearchParams({ callback }),
      redirect: 'manual',
    });
  });

  test('nothing is read before it is given; what it gives is used, and what it does not give is refused', async () => {
    await useSignIn('accounts.read');
    await expect(readOne()).rejects.toThrow(/nobody has given consent/);
    await give('accounts.read offline_access');
    expect((await readOne())?.key).toBe(data.accounts[0]?.id);
    const connector = await installation.parts.systems.connect({ system: 'fernhill', object: 'accounts' }, systemClock);
    await expect(
      connector.write([{ kind: 'create', idempotencyKey: 'x', fields: new Map([['name', 'X']]) }]),
    ).rejects.toThrow(/was not granted accounts\.write/);
    await connector.close();
    expect(await rowOf('fernhill')).toMatchObject({ consentBy: 'Ottilie Brandt' });
    expect((await rowOf('fernhill')).tokens?.toString('latin1')).not.toMatch(/access/);
  });

  test('a token that ends is renewed once, however many workers find it ended', async () => {
    await give('accounts.read offline_access');
    const keeper = installation.parts.consents.keeper('fernhill');
    const before = await keeper.read();
    // Ended by our clock: every connector wants another, and the refresh token is good only once.
    await keeper.renew(before?.access ?? '', async (tokens) => ({ ...tokens, until: 0 }));
    const found = await Promise.all(Array.from({ length: 5 }, readOne));
    expect(found.map((record) => record?.key)).toEqual(Array.from({ length: 5 }, () => data.accounts[0]?.id));
    expect((await keeper.read())?.refresh).not.toBe(before?.refresh);
    // And the one after it works as well.
    const now = await keeper.read();
    await keeper.renew(now?.access ?? '', async (tokens) => ({ ...tokens, until: 0 }));
    expect((await readOne())?.key).toBe(data.accounts[0]?.id);
  });

  test(
    'one that is taken back there is noticed and said; one that is given back here is good ' + 'no more there',
    async () => {
      await give('accounts.read offline_access');
      await fetch(`${installation.addresses.crm}/applications/revoke`, { method: 'POST', redirect: 'manual' });
      await expect(readOne()).rejects.toThrow(/ended or was taken back/);
      await expect(readOne()).rejects.toThrow(/nobody has given consent/);
      await give('accounts.read offline_access');
      const { consents, systems } = installation.parts;
      const tokens = await consents.keeper('fernhill').read();
      const row = await rowOf('fernhill');
      await consents.revoke(row, system, systems.credential(row), systems.dependencies(row));
      const basic = Buffer.from(`id:${installation.secret}`).toString('base64');
      const again = await fetch(`${installation.addresses.crm}/oidc/token`, {
        method: 'POST',
        headers: { authorization: `Basic ${basic}` },
        body: new URLSearchParams({ grant_type: 'refresh_token', refresh_token: tokens?.refresh ?? '' }),
      });
      expect(again.status).toBe(400);
    },
  );

  test.each<[string, (answer: URLSearchParams) => URLSearchParams, 'allow' | 'deny', RegExp]>([
    ['a person who denies', (answer) => answer, 'deny', /denied access/],
    [
      'a code that was tampered with',
      (answer) => (answer.set('code', 'x'), answer),
      'allow',
      /refused the sign-in: .*(invalid_grant|grant request is invalid)/,
    ],
    [
      'an answer of another provider',
      (answer) => (answer.set('iss', 'https://evil.example'), answer),
      'allow',
      /issuer/,
    ],
  ])('%s', async (_, change, button, says) => {
    const { consents, systems } = installation.parts;
    await useSignIn('accounts.read');
    const row = await rowOf('fernhill');
    const answer = change(await visit(await consents.begin(row, system, 'id', person, callback), button));
    const state = answer.get('state') as string;
    expect(await consents.take('another state', person)).toBeUndefined();
    expect(await consents.take(state, { ...person, email: 'other@x.example' })).toBeUndefined();
    const begun = await consents.take(state, person);
    expect(await consents.take(state, person)).toBeUndefined();
    const credential = systems.credential(row) as never;
    await expect(
      consents.complete(
        row,
        system,
        credential,
        { ...(begun as NonNullable<typeof begun>), state },
        answer,
        person,
        systems.dependencies(row),
      ),
    ).rejects.toThrow(says);
  });

  afterAll(async () => {
    const row = await rowOf('fernhill');
    await installation.parts.systems.change(row, row.revision, {
      description: httpSystemSchema.parse({
        ...row.description,
        signIn: { kind: 'client credentials', tokenPath: '/oauth/token' },
      }),
      pennant: row.pennant as never,
    });
  });
});

describe.each<['fernhill' | 'marketRow', 'crm' | 'shop', string, Record<string, string>]>([
  ['fernhill', 'crm', 'accounts', { 'address.town': 'Ashcombe' }],
  ['marketRow', 'shop', 'shoppers', { city: 'Ashcombe' }],
])('webhooks of %s', (id, which, object, change) => {
  const key = which === 'crm' ? (data.accounts[0]?.id ?? '') : (data.shoppers[0]?.id ?? '');
  const subscription = async () =>
    (await installation.parts.inbox.of(id))[0] as NonNullable<
      Awaited<ReturnType<typeof installation.parts.inbox.of>>[number]
    >;
  const until = async (good: () => Promise<boolean>): Promise<void> => {
    for (const end = Date.now() + 20_000; Date.now() < end; await wait(40)) if (await good()) return;
    throw new Error('it did not come about');
  };
  beforeAll(async () => installation.parts.inbox.subscribe(await rowOf(id), object, api.address));

  test('a change there is delivered here, verified and kept', async () => {
    await editOnPage(installation.addresses[which], key, change);
    await until(async () => (await subscription()).received > 0);
    const [delivery] = await installation.parts.inbox.deliveries((await subscription()).id);
    expect(delivery?.body).toContain(key);
    expect(await subscription()).toMatchObject({ state: 'working', refused: 0, putRight: 0 });
  });

  test('what is not signed, signed by another, changed or sent again is not taken', async () => {
    const { address, id: own, received, refused } = await subscription();
    const [known] = await installation.parts.inbox.deliveries(own);
    const body = known?.body ?? '';
    const post = async (headers: Record<string, string>, text = body) =>
      (
        await fetch(address, {
          method: 'POST',
          body: text,
          headers: { 'content-type': 'application/json', ...headers },
        })
      ).status;
    const sign = (secret: string, sentAt: Date, msg = 'msg_new') => ({
      'webhook-id': msg,
      'webhook-timestamp': String(Math.floor(sentAt.getTime() / 1000)),
      'webhook-signature': new Webhook(secret).sign(msg, sentAt, body),
    });
    expect(await post({})).toBe(401);
    expect(
      await post({
        ...sign(`whsec_${Buffer.from('another secret').toString('base64')}`, new Date()),
        'x-delivery': 'd',
        'x-signature': '00'.repeat(32),
      }),
    ).toBe(401);
    if (which === 'crm') {
      const [row] = (await installation.parts.data.query('select secret from webhook_subscription where id = $1', [
        own,
      ])) as { secret: Buffer }[];
      const secret = new SecretBox(installation.key).open(row?.secret as Buffer, `webhook ${own}`);
      expect(await post(sign(secret, new Date(Date.now() - 600_000)))).toBe(401);
      expect(await post(sign(secret, new Date()), `${body} `)).toBe(401);
      expect(await post(sign(secret, new Date()))).toBe(202);
      expect(await post(sign(secret, new Date()))).toBe(200);
      expect((await subscription()).received).toBe(received + 1);
    }
    expect((await subscription()).refused).toBeGreaterThanOrEqual(refused + 2);
    expect((await fetch(address.replace(/[^/]+$/, 'nothing'), { method: 'POST', body })).status).toBe(404);
  });

  test('one that is switched off or removed there is made anew, and works', async () => {
    const page = await (await fetch(`${installation.addresses[which]}/webhooks`)).text();
    const remote = /action="\/webhooks\/([^"]+)"/.exec(page)?.[1] ?? '';
    for (const done of ['off', 'remove'] as const) {
      const now =
        /action="\/webhooks\/([^"]+)"/.exec(
          await (await fetch(`${installation.addresses[which]}/webhooks`)).text(),
        )?.[1] ?? remote;
      await fetch(`${installation.addresses[which]}/webhooks/${now}`, {
        method: 'POST',
        body: new URLSearchParams({ do: done }),
        redirect: 'manual',
      });
      await installation.parts.inbox.check(await rowOf(id));
    }
    const { received, putRight, words } = await subscription();
    expect([putRight, words]).toEqual([2, expect.stringMatching(/made anew/)]);
    await editOnPage(
      installation.addresses[which],
      key,
      Object.fromEntries(Object.keys(change).map((field) => [field, 'Cressford'])),
    );
    await until(async () => (await subscription()).received > received);
  });

  test('ended, it is gone on both sides; a system in trouble is told of', async () => {
    await installation.faults(which, { refuseSignIn: true });
    await installation.parts.inbox.check(await rowOf(id));
    expect(await subscription()).toMatchObject({
      state: 'unknown',
      words: expect.stringContaining('refused') as unknown as string,
    });
    await installation.faults(which, {});
    await installation.parts.inbox.unsubscribe(await rowOf(id), object);
    expect(await installation.parts.inbox.of(id)).toEqual([]);
    expect(await (await fetch(`${installation.addresses[which]}/webhooks`)).text()).toContain('Nobody has subscribed');
  });
});

describe('a budget', () => {
  const slept: number[] = [];
  const clock: Clock = { now: () => Date.now(), sleep: async (milliseconds) => void slept.push(milliseconds) };
  const budget = (settings: object, at = clock) =>
    new PostgresCallBudget(installation.parts.data, { id: 'marketRow', name: 'Market Row' }, settings, at);
  const clear = async () => {
    slept.length = 0;
    await installation.parts.data.query('delete from call_budget');
  };
  beforeEach(clear);

  test('spaces the calls of all workers together', async () => {
    const workers = [budget({ perSecond: 0.05 }), budget({ perSecond: 0.05 }), budget({ perSecond: 0.05 })];
    await Promise.all(workers.flatMap((one) => [one.take(), one.take()]));
    // Six calls, one in twenty seconds: the first goes at once.
    expect(slept.map((milliseconds) => Math.round(milliseconds / 20_000)).sort()).toEqual([1, 2, 3, 4, 5]);
  });

  test('ends at its number of calls a day, says so, and begins anew on the next', async () => {
    const one = budget({ perDay: 3 });
    for (let call = 0; call < 3; call += 1) await one.take();
    await expect(budget({ perDay: 3 }).take()).rejects.toMatchObject(
      new SystemTrouble('too many calls', 'the 3 calls a day that Market Row may have are used up', ''),
    );
    expect(await installation.parts.systems.calls(await rowOf('marketRow'))).toMatchObject({ today: 3 });
    await installation.parts.data.query(`update call_budget set day = day - 1`);
    await one.take();
    expect(await installation.parts.systems.calls(await rowOf('marketRow'))).toMatchObject({ today: 1 });
  });

  test('lets no more calls be under way at once, and frees what a dead worker held', async () => {
    const [one, other] = [budget({ atOnce: 2 }, systemClock), budget({ atOnce: 2 }, systemClock)];
    const ends = [await one.take(), await other.take()];
    let third = false;
    const waiting = one.take().then((end) => {
      third = true;
      return end;
    });
    await wait(150);
    expect(third).toBe(false);
    ends[0]?.();
    (await waiting)();
    await installation.parts.data.query(
      `update call_slot set held_until = now() - interval '1 second' where system_id = 'marketRow'`,
    );
    (await other.take())();
  });

  test('what one call is asked to wait, the next calls wait too, whoever makes them', async () => {
    await budget({}).take();
    await budget({}).rest(40_000);
    expect(slept).toEqual([]);
    await budget({}).take();
    expect(Math.round((slept[0] ?? 0) / 10_000)).toBe(4);
  });
});
