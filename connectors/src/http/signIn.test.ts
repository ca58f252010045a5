/**
 * Signing in over real HTTP: what is sent, what is repeated, what is said when it is refused; and that no secret goes
 * astray.
 */
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { type Credential, httpSystemSchema } from '@anchor-knot/contracts';
import { AddressFilter } from '../addressFilter.js';
import { Caller, type CallBudget } from './caller.js';
import type { TokenKeeper } from './signIn.js';
import { GrantedTokens, type Tokens } from './tokens.js';

interface Asked {
  readonly method: string;
  readonly path: string;
  readonly headers: IncomingMessage['headers'];
  readonly body: string;
}
let server: Server;
let asked: Asked[] = [];
let answer: (one: Asked, response: ServerResponse) => void;
let now = 1_000_000;
let slept: number[] = [];
const clock = { now: () => now, sleep: async (milliseconds: number) => void slept.push(milliseconds) };
const addresses = new AddressFilter({ allowed: ['127.0.0.0/8'], own: [] });
const credential: Credential = { id: 'client:1/ä', secret: 's&ü:% +' };
const json = (response: ServerResponse, status: number, body: unknown, headers: Record<string, string> = {}): void =>
  void response
    .writeHead(status, { 'content-type': 'application/json', ...headers })
    .end(typeof body === 'string' ? body : JSON.stringify(body));

beforeAll(async () => {
  server = createServer((request, response) => {
    const parts: Buffer[] = [];
    request.on('data', (part: Buffer) => parts.push(part));
    request.on('end', () => {
      const one = {
        method: request.method ?? '',
        path: request.url ?? '',
        headers: request.headers,
        body: Buffer.concat(parts).toString(),
      };
      asked.push(one);
      answer(one, response);
    });
  }).listen(0, '127.0.0.1');
  await new Promise((done) => server.once('listening', done));
});
afterAll(() => void server.close());
beforeEach(() => {
  asked = [];
  slept = [];
});

const origin = (): string => `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
async function using<T>(
  signIn: object,
  work: (caller: Caller) => Promise<T>,
  more: {
    credential?: Credential | undefined;
    tokens?: TokenKeeper;
    budget?: CallBudget;
    granted?: GrantedTokens;
  } = {},
): Promise<T> {
  const system = httpSystemSchema.parse({
    kind: 'http',
    name: 'S',
    address: `${origin()}/base/`,
    signIn,
    timeoutMs: 2000,
    objects: {},
  });
  const caller = new Caller(system, { clock, random: () => 0, addresses, credential, ...more });
  try {
    return await work(caller);
  } finally {
    await caller.close();
  }
}
const clientCredentials = { kind: 'client credentials', tokenPath: '/token', scope: 'read write' };
const get = (caller: Caller) => caller.read({ method: 'GET', path: '/things' });
const troubleOf = (work: Promise<unknown>): Promise<{ code: string; message: string; advice: string }> =>
  work.then(
    () => Promise.reject(new Error('no trouble')),
    (error: { code: string; message: string; advice: string }) => error,
  );

test.each<[string, object, string, string]>([
  [
    'key and secret',
    { kind: 'key and secret' },
    'authorization',
    `Basic ${Buffer.from('client:1/ä:s&ü:% +').toString('base64')}`,
  ],
  ['bearer token', { kind: 'bearer token' }, 'authorization', 'Bearer plain-token'],
  ['header key', { kind: 'header key', header: 'X-Key' }, 'x-key', 'plain-token'],
])('%s is sent as it is described, below the path of the address', async (_, signIn, header, value) => {
  answer = (__, response) => json(response, 200, { ok: true });
  await using(signIn, get, value.includes('plain-token') ? { credential: { id: 'x', secret: 'plain-token' } } : {});
  expect(asked).toMatchObject([{ path: '/base/things', headers: { [header]: value } }]);
});

test('a token is fetched once, with id and secret encoded as the standard says, and serves until it ends', async () => {
  let tokens = 0;
  answer = ({ path }, response) =>
    json(
      response,
      200,
      path === '/token' ? { access_token: `t${(tokens += 1)}`, token_type: 'bearer', expires_in: 100 } : { ok: true },
    );
  await using(clientCredentials, async (caller) => {
    await get(caller);
    await get(caller);
    now += 71_000;
    await get(caller);
  });
  const [first] = asked;
  const [id = '', secret = ''] = Buffer.from(first?.headers.authorization?.replace('Basic ', '') ?? '', 'base64')
    .toString()
    .split(':');
  expect([new URLSearchParams(`x=${id}`).get('x'), new URLSearchParams(`x=${secret}`).get('x')]).toEqual([
    credential.id,
    credential.secret,
  ]);
  expect(Object.fromEntries(new URLSearchParams(first?.body))).toEqual({
    grant_type: 'client_credentials',
    scope: 'read write',
  });
  // Of a hundred seconds thirty are left for what is under way.
  expect(asked.map(({ path, headers }) => (path === '/token' ? 'token' : headers.authorization))).toEqual([
    'token',
    'Bearer t1',
    'Bearer t1',
    'token',
    'Bearer t2',
  ]);
});

test('a token that is refused is replaced once; if that is refused too, the refusal is told', async () => {
  let tokens = 0;
  answer = ({ path, headers }, response) =>
    path === '/token'
      ? json(response, 200, { access_token: `t${(tokens += 1)}`, token_type: 'Bearer' })
      : json(response, headers.authorization === 'Bearer t1' ? 401 : 200, { message: 'expired' });
  expect((await using(clientCredentials, get)).status).toBe(200);
  answer = ({ path }, response) =>
    path === '/token'
      ? json(response, 200, { access_token: 'x', token_type: 'Bearer' })
      : json(response, 401, { message: 'who are you' });
  expect(await troubleOf(using(clientCredentials, get))).toMatchObject({
    code: 'sign-in refused',
    message: 'S refused the sign-in: who are you',
  });
});

test.each<[string, (response: ServerResponse) => void, string, RegExp]>([
  [
    'the wrong secret',
    (response) => json(response, 401, { error: 'invalid_client', error_description: 'the secret is wrong' }),
    'sign-in refused',
    /the secret is wrong/,
  ],
  [
    'a challenge',
    (response) => json(response, 401, '', { 'www-authenticate': 'Basic realm="x"' }),
    'sign-in refused',
    /client id or secret is wrong/,
  ],
  [
    'a scope that is not given',
    (response) => json(response, 400, { error: 'invalid_scope' }),
    'sign-in refused',
    /invalid_scope/,
  ],
  [
    'a page for people',
    (response) => void response.writeHead(200, { 'content-type': 'text/html' }).end('<html>'),
    'sign-in refused',
    /refused the sign-in/,
  ],
  [
    'no token in the answer',
    (response) => json(response, 200, { token_type: 'bearer' }),
    'sign-in refused',
    /access_token/,
  ],
  [
    'a way on to somewhere else',
    (response) => void response.writeHead(302, { location: 'http://169.254.169.254/latest' }).end(),
    'sign-in refused',
    /refused the sign-in/,
  ],
  [
    'a server that fails for ever',
    (response) => json(response, 503, { error: 'down' }),
    'server error',
    /cannot give a token: status 503/,
  ],
])('%s at the token address is told apart, and the secret is in none of the words', async (_, respond, code, says) => {
  answer = (__, response) => respond(response);
  const trouble = await troubleOf(using(clientCredentials, get));
  expect([trouble.code, trouble.message]).toEqual([code, expect.stringMatching(says)]);
  expect(JSON.stringify([trouble.message, trouble.advice])).not.toContain(credential.secret);
  expect(asked.every(({ path }) => path === '/token')).toBe(true);
});

test('a token serves the next connector too, until it is refused or ends; another secret gets its own', async () => {
  const granted = new GrantedTokens();
  let given = 0;
  let isRevoked = false;
  answer = ({ path, headers }, response) => {
    if (path === '/token') return json(response, 200, { access_token: `t${(given += 1)}`, token_type: 'Bearer' });
    return json(response, isRevoked && headers.authorization === 'Bearer t1' ? 401 : 200, {});
  };
  const used = async (who: Credential = credential): Promise<unknown> => {
    await using(clientCredentials, get, { credential: who, granted });
    return asked.at(-1)?.headers.authorization;
  };
  expect([await used(), await used(), given]).toEqual(['Bearer t1', 'Bearer t1', 1]);
  expect(await used({ ...credential, secret: 'another' })).toBe('Bearer t2');
  isRevoked = true;
  expect([await used(), await used(), given]).toEqual(['Bearer t3', 'Bearer t3', 3]);
  now += 600_000;
  expect(await used()).toBe('Bearer t4');
});

test('a token address that is busy is asked again, after as long as it says', async () => {
  let tries = 0;
  answer = ({ path }, response) => {
    if (path !== '/token') return json(response, 200, { ok: true });
    tries += 1;
    return tries < 3
      ? json(response, 429, { error: 'slow_down' }, { 'retry-after': '7' })
      : json(response, 200, { access_token: 't', token_type: 'bearer' });
  };
  expect((await using(clientCredentials, get)).status).toBe(200);
  expect(slept).toEqual([7000, 7000]);
});

test('without a credential nothing is sent at all', async () => {
  expect(await troubleOf(using(clientCredentials, get, { credential: undefined }))).toMatchObject({
    code: 'sign-in refused',
    message: 'no credential is kept for S',
  });
  expect(asked).toEqual([]);
});

describe('a consent', () => {
  const signIn = () => ({
    kind: 'authorization code',
    authorizationUrl: `${origin()}/authorize`,
    tokenUrl: `${origin()}/token`,
  });
  function keeperOf(tokens: Tokens | undefined): TokenKeeper & { kept: Tokens | undefined } {
    const keeper = {
      kept: tokens,
      read: async () => keeper.kept,
      renew: async (stale: string, renew: (known: Tokens) => Promise<Tokens | undefined>) => {
        if (keeper.kept?.access !== stale) return keeper.kept;
        keeper.kept = await renew(keeper.kept);
        return keeper.kept;
      },
    };
    return keeper;
  }

  test('what others have renewed meanwhile is used, and not renewed again', async () => {
    answer = (_, response) => json(response, 200, { ok: true });
    const keeper = keeperOf({ access: 'old', until: 0, refresh: 'r' });
    const renewed = { access: 'new', until: now + 100_000, refresh: 'r2' };
    await using(signIn(), get, {
      tokens: { ...keeper, read: async () => ({ access: 'old', until: 0 }), renew: async () => renewed },
    });
    expect(asked.map(({ path, headers }) => [path, headers.authorization])).toEqual([['/base/things', 'Bearer new']]);
  });

  test('a refresh that gives no other refresh token leaves the one that there is, and what was granted', async () => {
    answer = ({ path }, response) =>
      json(
        response,
        200,
        path === '/token' ? { access_token: 'new', token_type: 'bearer', expires_in: 60 } : { ok: true },
      );
    const keeper = keeperOf({ access: 'old', until: 0, refresh: 'stays', scope: 'a b', consentEnds: 77 });
    await using(signIn(), get, { tokens: keeper });
    expect(keeper.kept).toMatchObject({ access: 'new', refresh: 'stays', scope: 'a b', consentEnds: 77 });
  });

  test.each([
    [{ refresh_token_expires_in: 500, authorization_expires_in: 900 }, 500],
    [{ refresh_token_expires_in: '900', authorization_expires_in: 600 }, 600],
    [{ refresh_token_expires_in: 0, authorization_expires_in: 'never' }, undefined],
    [{ refresh_token_expires_in: 1e12 }, undefined],
    [{}, undefined],
  ])('with another refresh token the end of a consent is what its answer says: %j', async (said, seconds) => {
    const tokens = { access_token: 'new', token_type: 'bearer', expires_in: 60, refresh_token: 'other', ...said };
    answer = ({ path }, response) => json(response, 200, path === '/token' ? tokens : { ok: true });
    const keeper = keeperOf({ access: 'old', until: 0, refresh: 'r', consentEnds: 77 });
    await using(signIn(), get, { tokens: keeper });
    expect(keeper.kept?.consentEnds).toBe(seconds && now + seconds * 1000);
  });

  test('when the provider is down the consent is not forgotten; when it says no, it is', async () => {
    const keeper = keeperOf({ access: 'old', until: 0, refresh: 'r' });
    answer = (_, response) => json(response, 500, {});
    expect(await troubleOf(using(signIn(), get, { tokens: keeper }))).toMatchObject({ code: 'server error' });
    expect(keeper.kept).toMatchObject({ refresh: 'r' });
    answer = (_, response) => json(response, 400, { error: 'invalid_grant' });
    expect(await troubleOf(using(signIn(), get, { tokens: keeper }))).toMatchObject({
      code: 'sign-in refused',
      message: expect.stringContaining('ended or was taken back') as unknown as string,
    });
    expect(keeper.kept).toBeUndefined();
  });

  test('without a refresh token the end of a token is the end of the consent', async () => {
    answer = (_, response) => json(response, 200, {});
    expect(await troubleOf(using(signIn(), get, { tokens: keeperOf({ access: 'old', until: 0 }) }))).toMatchObject({
      code: 'sign-in refused',
    });
    expect(asked).toEqual([]);
  });
});

describe('what a call takes of a budget', () => {
  test('it is given back also when the call breaks, and a rest is asked of all', async () => {
    const log: string[] = [];
    const budget: CallBudget = {
      take: async () => {
        log.push('take');
        return () => void log.push('end');
      },
      rest: async (milliseconds) => void log.push(`rest ${milliseconds}`),
    };
    let tries = 0;
    answer = (_, response) => {
      tries += 1;
      if (tries === 1) return void response.destroy();
      return tries === 2 ? json(response, 503, {}, { 'retry-after': '3' }) : json(response, 200, { ok: true });
    };
    await using({ kind: 'none' }, get, { budget });
    expect(log).toEqual(['take', 'end', 'take', 'end', 'rest 3000', 'take', 'end']);
  });

  test('when none is left, nothing is sent', async () => {
    const budget: CallBudget = {
      take: () => Promise.reject(Object.assign(new Error('used up'), { code: 'too many calls' })),
      rest: async () => undefined,
    };
    answer = (_, response) => json(response, 200, {});
    await expect(using({ kind: 'none' }, get, { budget })).rejects.toThrow();
    expect(asked).toEqual([]);
  });
});
