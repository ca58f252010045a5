/** Every route as every role and as nobody; CSRF; secrets that never leave; the description of the API. */
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { type Role, roles } from '@anchor-knot/contracts';
import { generateCustomers } from '@anchor-knot/standins';
import { SecretBox } from '../systems/secretBox.js';
import { ApiClient, type Call } from '../testing/apiClient.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;

beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(
    database,
    generateCustomers({ seed: 3, inBoth: 2, onlyCrm: 1, onlyShop: 1, mess: false }),
  );
  await installation.startWorker();
  api = await ApiClient.start(installation);
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

const call = (what: Call | string) => api.call(what);
const signIn = (role: Role) => api.signIn(role);
const once = (role: Role) => api.once(role);

const nowhere = '00000000-0000-7000-8000-000000000000';
/** The least role for each route. A route that is missing here fails the test. */
const leastRole: Record<string, Role | 'everybody'> = {
  'PUT /api/knots/{knot}/state': 'editor',
  'PUT /api/knots/{knot}/timing': 'editor',
  'POST /api/knots/{knot}/decisions/{decision}/alike': 'operator',
  'POST /api/knots/{knot}/decisions/{decision}/correct': 'operator',
  'POST /api/decisions/undo': 'operator',
  'POST /api/decisions/put-off': 'operator',
  'POST /api/decisions/give': 'operator',
  'POST /api/decisions/decide': 'operator',
  'GET /api/knots/{knot}/decisions/{decision}/record': 'operator',
  'GET /api/decisions/{decision}': 'viewer',
  'GET /api/decisions/lacked': 'viewer',
  'GET /api/series': 'viewer',
  'PUT /api/series/{series}': 'editor',
  'DELETE /api/series/{series}': 'editor',
  'GET /api/series/{series}/numbers': 'viewer',
  'GET /api/substitutes': 'viewer',
  'PUT /api/knots/{knot}/substitutes': 'operator',
  'DELETE /api/substitutes/{id}': 'operator',
  'GET /api/colleagues': 'operator',
  'GET /api/anchors': 'viewer',
  'GET /api/health': 'everybody',
  'GET /api/ready': 'everybody',
  'POST /api/session': 'everybody',
  'GET /api/session': 'viewer',
  'DELETE /api/session': 'viewer',
  'GET /api/watch': 'viewer',
  'GET /api/first-loads': 'viewer',
  'GET /api/systems': 'viewer',
  'GET /api/systems/{system}': 'viewer',
  'POST /api/systems': 'administrator',
  'PUT /api/systems/{system}': 'administrator',
  'PUT /api/systems/{system}/credential': 'administrator',
  'DELETE /api/systems/{system}/credential': 'administrator',
  'DELETE /api/systems/{system}': 'administrator',
  'POST /api/systems/{system}/probe': 'operator',
  'POST /api/system-test': 'administrator',
  'POST /api/database-tables': 'administrator',
  'POST /api/query-preview': 'administrator',
  'POST /api/openapi-reading': 'administrator',
  'POST /api/entity-sets': 'administrator',
  'POST /api/units': 'administrator',
  'POST /api/folder-files': 'administrator',
  'POST /api/file-preview': 'administrator',
  'POST /api/consents': 'administrator',
  'POST /api/systems/{system}/consent': 'administrator',
  'DELETE /api/systems/{system}/consent': 'administrator',
  'POST /api/systems/{system}/objects/{object}/subscription': 'administrator',
  'DELETE /api/systems/{system}/objects/{object}/subscription': 'administrator',
  'POST /api/systems/{system}/subscriptions/check': 'operator',
  'GET /api/subscriptions/{subscription}/deliveries': 'operator',
  'POST /api/systems/{system}/objects/{object}/fields': 'administrator',
  'GET /api/systems/{system}/objects/{object}': 'viewer',
  'PUT /api/systems/{system}/objects/{object}/holds': 'editor',
  'POST /api/systems/{system}/objects/{object}/profile': 'operator',
  'GET /api/systems/{system}/objects/{object}/records': 'viewer',
  'GET /api/events': 'viewer',
  'GET /api/knots/{knot}': 'viewer',
  'GET /api/knots': 'viewer',
  'POST /api/knots': 'editor',
  'POST /api/knots/import': 'editor',
  'POST /api/knots/{knot}/things': 'viewer',
  'POST /api/runs/together': 'operator',
  'GET /api/knot-schema': 'viewer',
  'POST /api/knots/{knot}/survey': 'editor',
  'GET /api/knots/{knot}/draft': 'viewer',
  'PUT /api/knots/{knot}/draft': 'editor',
  'DELETE /api/knots/{knot}/draft': 'editor',
  'GET /api/knots/{knot}/versions/{version}': 'viewer',
  'POST /api/knots/{knot}/reading': 'viewer',
  'GET /api/knots/{knot}/accounts': 'viewer',
  'GET /api/knots/{knot}/records': 'viewer',
  'GET /api/knots/{knot}/timing': 'viewer',
  'POST /api/knots/{knot}/records/{member}/{key}': 'operator',
  'GET /api/knots/{knot}/anchors': 'viewer',
  'GET /api/anchors/{anchor}': 'viewer',
  'GET /api/anchors/{anchor}/rows/{knot}': 'viewer',
  'POST /api/anchors/{anchor}/tie': 'operator',
  'POST /api/anchors/{anchor}/regroup': 'operator',
  'POST /api/anchors/{anchor}/forecast': 'viewer',
  'GET /api/runs': 'viewer',
  'GET /api/runs/{run}': 'viewer',
  'GET /api/runs/{run}/operations': 'viewer',
  'GET /api/decisions': 'viewer',
  'POST /api/knots/{knot}/runs': 'operator',
  'POST /api/runs/{run}/stop': 'operator',
  'POST /api/knots/{knot}/decisions/{decision}': 'operator',
  'POST /api/knots/{knot}/decisions/{decision}/undo': 'operator',
  'GET /api/knots/{knot}/decisions/{decision}/records': 'viewer',
  'GET /api/knots/{knot}/duplicates': 'viewer',
  'GET /api/knots/{knot}/duplicates.csv': 'viewer',
  'POST /api/knots/{knot}/set-aside/take-back': 'operator',
  'GET /api/knots/{knot}/verdicts': 'viewer',
  'DELETE /api/knots/{knot}/verdicts/{verdict}': 'operator',
  'PUT /api/knots/{knot}/definition': 'editor',
  'GET /api/knots/{knot}/start-calls': 'operator',
  'POST /api/knots/{knot}/start-calls': 'editor',
  'DELETE /api/knots/{knot}/start-calls/{call}': 'editor',
  'PUT /api/knot-states': 'editor',
  'GET /api/notices': 'viewer',
  'GET /api/notices/unread': 'viewer',
  'POST /api/notices/read': 'viewer',
  'GET /api/notice-rules': 'operator',
  'PUT /api/notice-rules/{rule}': 'administrator',
  'DELETE /api/notice-rules/{rule}': 'administrator',
  'POST /api/notice-rules/{rule}/test': 'administrator',
  'GET /api/runs/{run}/exchanges': 'operator',
  'PUT /api/knots/{knot}/detail': 'operator',
  'GET /api/follow-ups': 'operator',
  'PUT /api/follow-ups/{followUp}': 'administrator',
  'DELETE /api/follow-ups/{followUp}': 'administrator',
  'POST /api/follow-ups/preview': 'administrator',
  'POST /api/follow-ups/{followUp}/test': 'administrator',
  'GET /api/notice-messages': 'operator',
  'POST /api/notice-messages/{message}/again': 'administrator',
  'GET /api/repair': 'viewer',
  'GET /api/repair/file': 'operator',
  'POST /api/repair/file': 'operator',
};

async function routes(): Promise<string[]> {
  const { paths } = (await call('/api/openapi.json')).json() as { paths: Record<string, Record<string, unknown>> };
  return Object.entries(paths).flatMap(([path, methods]) =>
    Object.keys(methods).map((method) => `${method.toUpperCase()} ${path}`),
  );
}

test('the table of roles names every route, and the API is described as OpenAPI 3.1', async () => {
  expect((await routes()).sort()).toEqual(Object.keys(leastRole).sort());
  expect((await call('/api/openapi.json')).json()).toMatchObject({ openapi: '3.1.0' });
});

test.each(['nobody', ...roles] as const)('as %s, each route answers or refuses as the table says', async (who) => {
  for (const [route, least] of Object.entries(leastRole)) {
    const [method, path] = route.split(' ') as ['GET' | 'POST' | 'PUT' | 'DELETE', string];
    // Events never end, signing out would end the session, and signing in is tried by every test here.
    if (route === 'GET /api/events' ? who === 'nobody' : false)
      expect((await call({ method, url: path })).statusCode).toBe(401);
    if (['GET /api/events', 'DELETE /api/session', 'POST /api/session'].includes(route)) continue;
    const headers = who === 'nobody' ? {} : await once(who);
    const url = path
      .replace(/\{(knot|system|object)\}/g, 'nothing')
      .replace(/\{(run|anchor|subscription)\}/, nowhere)
      .replace(/\{(decision|version|verdict)\}/, '1');
    const { statusCode } = await call({
      method,
      url,
      headers,
      ...(method === 'POST' || method === 'PUT' ? { payload: {} } : {}),
    });
    const refused =
      least === 'everybody'
        ? undefined
        : who === 'nobody'
          ? 401
          : roles.indexOf(who) < roles.indexOf(least)
            ? 403
            : undefined;
    if (refused) expect([route, statusCode]).toEqual([route, refused]);
    else expect([route, [401, 403, 500].includes(statusCode)]).toEqual([route, false]);
  }
});

test('a change without the CSRF token is refused, and a forged cookie is nobody', async () => {
  const { cookie } = await once('administrator');
  expect(
    (
      await call({
        method: 'POST',
        url: '/api/knots/customers/runs',
        headers: { cookie },
        payload: { kind: 'dry run' },
      })
    ).statusCode,
  ).toBe(403);
  expect(
    (await call({ method: 'GET', url: '/api/watch', headers: { cookie: 'anchor_knot_session=x' } })).statusCode,
  ).toBe(401);
});

test('wrong passwords are refused alike, known email or not, and after ten tries for a minute', async () => {
  const attempt = (email: string) =>
    call({ method: 'POST', url: '/api/session', payload: { email, password: 'wrong' } });
  expect((await attempt('viewer@x.example')).json()).toEqual((await attempt('nobody@x.example')).json());
  for (let tries = 0; tries < 10; tries += 1) await attempt('tired@x.example');
  expect((await attempt('tired@x.example')).statusCode).toBe(429);
});

test('signing out ends the session', async () => {
  const mine = await signIn('viewer');
  expect((await call({ method: 'DELETE', url: '/api/session', headers: { ...mine } })).statusCode).toBe(204);
  expect((await call({ method: 'GET', url: '/api/session', headers: { cookie: mine.cookie } })).statusCode).toBe(401);
});

test(
  'a definition is changed only by who saw the version in force, and a bad one is refused ' + 'with every place',
  async () => {
    const headers = { ...(await once('editor')) };
    const { definition, version } = (await call({ url: '/api/knots/customers', headers })).json() as {
      definition: { fields: { name: string; rule: unknown }[] };
      version: number;
    };
    const put = (changed: unknown, basedOn: number) =>
      call({
        method: 'PUT',
        url: '/api/knots/customers/definition',
        headers,
        payload: { definition: changed, basedOn, note: 'n' },
      });
    const renamed = structuredClone(definition);
    (renamed.fields[0] as { name: string }).name = 'Firm';
    expect((await put(renamed, version)).json()).toEqual({ version: version + 1, waits: false });
    expect((await put(definition, version)).statusCode).toBe(409);
    const bad = structuredClone(renamed);
    (bad.fields[0] as { rule: unknown }).rule = { steps: [{ step: 'newest' }] };
    const answer = await put(bad, version + 1);
    expect([answer.statusCode, answer.json()]).toMatchObject([422, { problems: [{ at: 'fields.company.rule' }] }]);
    expect((await put('not a knot', version + 1)).statusCode).toBe(422);
  },
);

test(
  'a system is connected, tested, changed and disconnected over the API; its secret goes in and ' + 'never comes out',
  async () => {
    const headers = { ...(await once('administrator')) };
    const planted = 'planted-secret-4711';
    const pennant = { pattern: 'disc', colour: 'plum', letters: 'X' };
    const shop = (await call({ url: '/api/systems/marketRow', headers })).json() as { description: object };
    const description = { ...shop.description, name: 'Second shop' };
    const test1 = await call({
      method: 'POST',
      url: '/api/system-test',
      headers,
      payload: { description, credential: { id: 'id', secret: planted } },
    });
    expect(test1.json()).toMatchObject({ ok: false, steps: [{ state: 'good' }, { name: 'Sign in', state: 'failed' }] });
    const connected = await call({
      method: 'POST',
      url: '/api/systems',
      headers,
      payload: { description, pennant, note: '=cmd()', credential: { id: 'id', secret: planted } },
    });
    expect([connected.statusCode, connected.json()]).toEqual([201, { system: 'second-shop' }]);
    const probe = await call({ method: 'POST', url: '/api/systems/second-shop/probe', headers, payload: {} });
    expect(
      await call({
        method: 'PUT',
        url: '/api/systems/second-shop/credential',
        headers,
        payload: { id: 'id', secret: installation.secret },
      }),
    ).toMatchObject({ statusCode: 204 });
    expect(
      (await call({ method: 'POST', url: '/api/systems/second-shop/probe', headers, payload: {} })).json(),
    ).toMatchObject({ ok: true });
    const view = await call({ url: '/api/systems/second-shop', headers });
    expect(view.json()).toMatchObject({ signsInAs: 'id', note: '=cmd()', revision: 1, environment: 'production' });
    const change = (revision: number, objects: object) =>
      call({
        method: 'PUT',
        url: '/api/systems/second-shop',
        headers,
        payload: { description: { ...description, objects, rows: undefined }, pennant, revision },
      });
    expect((await change(7, {})).statusCode).toBe(409);
    expect((await change(1, {})).statusCode).toBe(200);
    expect((await call({ method: 'DELETE', url: '/api/systems/marketRow', headers })).json()).toMatchObject({
      says: 'Market Row is used in Customers.',
    });
    const inUse = await call({
      method: 'PUT',
      url: '/api/systems/marketRow',
      headers,
      payload: { description: { ...shop.description, objects: {}, rows: undefined }, pennant, revision: 1 },
    });
    expect(inUse.json()).toMatchObject({ code: 'object in use' });
    expect((await call({ method: 'DELETE', url: '/api/systems/second-shop', headers })).statusCode).toBe(204);
    const audit = JSON.stringify(await installation.parts.data.query('select * from audit'));
    expect(audit).toContain('system connected');
    for (const place of [test1.body, probe.body, view.body, audit, ...api.logged])
      expect(place).not.toMatch(new RegExp(`${planted}|${installation.secret}`));
  },
);

test('a secret that was typed for one place is never sent to another, however the description is changed', async () => {
  const headers = { ...(await once('administrator')) };
  const heard: string[] = [];
  const elsewhere = createServer((request, answer) => {
    heard.push(JSON.stringify(request.headers));
    answer.writeHead(401).end();
  }).listen(0, '127.0.0.1');
  await new Promise((done) => elsewhere.once('listening', done));
  const { description, summary, revision } = (await call({ url: '/api/systems/marketRow', headers })).json() as {
    description: object;
    summary: { pennant: object };
    revision: number;
  };
  const moved = { ...description, address: `http://127.0.0.1:${(elsewhere.address() as AddressInfo).port}` };
  const tested = await call({
    method: 'POST',
    url: '/api/system-test',
    headers,
    payload: { description: moved, system: 'marketRow' },
  });
  expect(tested.json()).toMatchObject({
    ok: false,
    steps: [{ state: 'good' }, { name: 'Sign in', says: 'no credential is kept for Market Row' }],
  });
  const change = (more: object) =>
    call({
      method: 'PUT',
      url: '/api/systems/marketRow',
      headers,
      payload: { description: moved, pennant: summary.pennant, revision, ...more },
    });
  expect((await change({})).json()).toMatchObject({ code: 'secret needed' });
  expect((await change({ credential: { id: 'id', secret: 'another secret' } })).statusCode).toBe(200);
  await call({ method: 'POST', url: '/api/systems/marketRow/probe', headers, payload: {} });
  expect(heard.join()).toContain(Buffer.from('id:another secret').toString('base64'));
  expect(heard.join()).not.toContain(Buffer.from(`id:${installation.secret}`).toString('base64'));
  await call({
    method: 'PUT',
    url: '/api/systems/marketRow',
    headers,
    payload: {
      description,
      pennant: summary.pennant,
      revision: revision + 1,
      credential: { id: 'id', secret: installation.secret },
    },
  });
  elsewhere.close();
});

test('secrets are in no answer, no log line and no export, and encrypted wherever they are kept', async () => {
  const headers = { ...(await once('administrator')) };
  await installation.run();
  await installation.faults('crm', { refuseSignIn: true });
  await installation.run();
  const { anchors } = (await call({ url: '/api/knots/customers/anchors', headers })).json() as {
    anchors: { id: string }[];
  };
  const { runs } = (await call({ url: '/api/runs', headers })).json() as { runs: { id: string }[] };
  const urls = [
    '/api/watch',
    '/api/first-loads',
    '/api/systems',
    '/api/systems/fernhill',
    '/api/systems/fernhill/objects/accounts',
    '/api/systems/fernhill/objects/accounts/records',
    '/api/knots/customers',
    '/api/decisions',
    `/api/anchors/${anchors[0]?.id}`,
    `/api/runs/${runs[0]?.id}`,
    `/api/runs/${runs[1]?.id}/operations`,
    '/api/openapi.json',
  ];
  // Secrets of each kind: what signs in, the tokens of a consent, what signs deliveries.
  const { data: db, consents, inbox, systems } = installation.parts;
  const tokens = { access: 'planted-access-token', refresh: 'planted-refresh-token', until: 0 };
  await db.query('update system set tokens = $1 where id = $2', [
    new SecretBox(installation.key).seal(JSON.stringify(tokens), 'tokens fernhill'),
    'fernhill',
  ]);
  expect(await consents.keeper('fernhill').read()).toEqual(tokens);
  await installation.faults('crm', {});
  await inbox.subscribe((await systems.find('fernhill')) as never, 'accounts', api.address);
  const [subscription] = (await db.query('select id, secret from webhook_subscription')) as {
    id: string;
    secret: Buffer;
  }[];
  const signs = new SecretBox(installation.key).open(
    subscription?.secret as Buffer,
    `webhook ${subscription?.id ?? ''}`,
  );
  // Also where things go wrong: refused, broken, not understood.
  for (const fault of [{ refuseSignIn: true }, { brokenPages: true }, { errorRate: 1 }]) {
    await installation.faults('crm', fault);
    await call({ method: 'POST', url: '/api/systems/fernhill/probe', headers, payload: {} });
    await call({ method: 'POST', url: '/api/systems/fernhill/subscriptions/check', headers, payload: {} });
  }
  await call({ method: 'POST', url: `/hooks/${subscription?.id ?? ''}`, payload: { type: 'account.changed' } });
  const answers = await Promise.all(urls.map(async (url) => (await call({ url, headers })).body));
  expect(answers.every((body) => body.length > 50)).toBe(true);
  const tables = (await db.query(
    `select format('%I.%I', schemaname, tablename) as name from pg_tables where schemaname in ('public', 'pgboss')`,
  )) as { name: string }[];
  const stored = await Promise.all(
    tables.map(async ({ name }) => JSON.stringify(await db.query(`select t::text from ${name} t`))),
  );
  expect(stored.join('')).toContain('fernhill');
  for (const secret of [
    installation.secret,
    'planted-secret-4711',
    tokens.access,
    tokens.refresh,
    signs,
    signs.replace('whsec_', ''),
  ]) {
    const forms = [
      secret,
      Buffer.from(secret).toString('base64'),
      Buffer.from(secret).toString('hex'),
      encodeURIComponent(secret),
    ];
    for (const place of [...api.answered, ...api.logged, ...installation.logged, ...stored])
      for (const form of forms) expect(place.includes(form)).toBe(false);
  }
  // Nor do logs hold what records say.
  const logged = [...api.logged, ...installation.logged].join('').replaceAll(/"time":\d+/g, '');
  expect(logged).not.toMatch(/@|1632/);
});
