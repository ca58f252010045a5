/** Who is told of what: found in a real database, sent to a mail server and a program that are none of ours. */
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { randomUUID } from 'node:crypto';
import { Webhook } from 'standardwebhooks';
import type { MessageList, NoticeList, NoticeRule } from '@anchor-knot/contracts';
import { generateCustomers, seededRandom } from '@anchor-knot/standins';
import { openInstallation } from '../installationParts.js';
import { takeMessage } from '../persistence/tables/noticeMessages.js';
import { freePort } from '../start/cluster.js';
import { ApiClient } from '../testing/apiClient.js';
import { MailServer } from '../testing/mailServer.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const data = generateCustomers({ seed: 5, inBoth: 2, onlyCrm: 0, onlyShop: 0, mess: false });
const minute = 60_000;
const hour = 60 * minute;

let database: TestDatabase;
let mail: MailServer;
let installation: RealInstallation;
let api: ApiClient;
let now: number;
const closers: { close(): Promise<void> }[] = [];
beforeAll(async () => {
  database = await TestDatabase.start();
});
beforeEach(async () => {
  mail = await MailServer.start();
  installation = await RealInstallation.start(database, data, { smtpUrl: mail.url });
  api = await ApiClient.start(installation);
  now = Date.now();
});
afterEach(async () => {
  await Promise.all(closers.splice(0).map((other) => other.close()));
  await api.close();
  await installation.stop();
  await mail.stop();
});
afterAll(async () => {
  await database.stop();
});

const clock = (): Date => new Date(now);
const sql = (statement: string, parameters: unknown[] = []) => installation.parts.data.query(statement, parameters);
const rule: NoticeRule = {
  name: 'Night watch',
  isOn: true,
  topics: ['run failed', 'run stopped', 'run missed', 'run in part', 'system in trouble', 'decision', 'waits long'],
  decisionKinds: [],
  waitsHours: 24,
  usedPercent: 80,
  knots: null,
  recipients: [{ kind: 'mail', address: 'ottilie@hazelmoor.example' }],
  rhythm: { kind: 'at once' },
  zone: 'Europe/London',
  isRepeated: false,
  tellsEnd: true,
  mostPerHour: 100,
};
async function keep(changes: Partial<NoticeRule> = {}, id: string = randomUUID(), revision = 0) {
  const kept = await installation.parts.notices.keep(id, { ...rule, ...changes }, revision, 'test', clock());
  return { id, ...kept };
}
async function tell(): Promise<void> {
  await installation.parts.notices.find(clock);
  await installation.parts.notices.send(clock);
}
const subjects = (): (string | undefined)[] => mail.mails.map(({ subject }) => subject);
async function endRun(state: string, words: string | null = null): Promise<string> {
  const id = randomUUID();
  await sql(
    `insert into run (id, knot_id, knot_version, kind, cause, started_by, started_at, ended_at, state, token,
       lease_until, words) values ($1, 'customers', 1, 'run', 'schedule', '', $2, $2, $3, 0, $2, $4)`,
    [id, clock(), state, words],
  );
  return id;
}
const trouble = (words: string | null) =>
  sql(`update system set trouble = $1, checked_at = now() where id = 'fernhill'`, [
    words === null ? null : JSON.stringify({ code: 'unreachable', words, advice: '' }),
  ]);
const openDecisions = (count: number, kind: string) =>
  sql(
    `insert into decision (knot_id, identity, kind, says, detail, fingerprint, opened_at)
     select 'customers', $2 || gen_random_uuid(), $2, 'x', '{}', '', $3 from generate_series(1, $1)`,
    [count, kind, clock()],
  );
const get = async <T>(path: string, role: 'viewer' | 'administrator' = 'administrator'): Promise<T> =>
  (await api.as(role, 'GET', path)).json() as T;
const messages = async () => (await get<MessageList>('/api/notice-messages')).messages;

test('what goes on is told once, and that it is over; the mail says why one gets it, and leads there', async () => {
  const { id } = await keep();
  const run = await endRun('failed', 'Fernhill CRM: nobody\r\nBcc: all@x.example\r\nanswers <b>');
  await tell();
  const [first] = mail.mails;
  expect(first?.subject).toBe('Customers: the run failed. Fernhill CRM: nobody Bcc: all@x.example answers <b>');
  expect(first?.text).toContain(`https://knots.hazelmoor.example/runs/${run}`);
  expect(first?.text).toMatch(/You get this because “Night watch” tells of runs that fail, .*\./);
  expect(first?.text).toContain(`https://knots.hazelmoor.example/notices/told/${id}`);
  expect(first?.html).toContain('answers &lt;b&gt;');
  expect(first?.headers.has('bcc')).toBe(false);
  expect(first?.headers.get('auto-submitted')).toBe('auto-generated');
  now += minute;
  await endRun('failed', 'still');
  await endRun('failed', 'still');
  await tell();
  expect(mail.mails).toHaveLength(1);
  await endRun('succeeded');
  await tell();
  expect(subjects()[1]).toBe('Customers: a run came to a good end again.');
  const { notices, unread } = await get<NoticeList>('/api/notices', 'viewer');
  expect(notices).toMatchObject([{ topic: 'run failed', about: 'Customers', times: 3, isUnread: true }]);
  expect(notices[0]?.overAt).not.toBeNull();
  expect(unread).toBe(1);
  const through = notices[0]?.id ?? '';
  expect((await api.as('viewer', 'POST', '/api/notices/read', { through })).statusCode).toBe(204);
  expect(await get('/api/notices/unread', 'viewer')).toEqual({ unread: 0 });
  // What one person has seen, another has not.
  expect(await get('/api/notices/unread')).toEqual({ unread: 1 });
});

test('decisions are told by their number, never by their values; more of them only to whom wants that', async () => {
  await keep();
  await keep({ name: 'All of it', isRepeated: true, recipients: [{ kind: 'mail', address: 'halima@x.example' }] });
  await openDecisions(3, 'held');
  await tell();
  expect(new Set(subjects())).toEqual(new Set(['Customers: 3 held fields wait.']));
  now += minute;
  await openDecisions(2, 'held');
  await tell();
  expect(subjects().slice(2)).toEqual(['Customers: 5 held fields wait, 2 of them new.']);
  now += 25 * hour;
  await sql(`update decision set opened_at = opened_at - interval '25 hours'`);
  await tell();
  expect(subjects().slice(3)).toEqual(Array(2).fill('Customers: a decision has waited for more than 24 h.'));
  // What was put off waits for nobody.
  await sql(`update decision set put_off_until = now() + interval '1 day'`);
  await tell();
  expect(subjects().slice(5).sort()).toEqual([
    '2 notices: Over: Customers: 5 held fields wait, 2 of them new.',
    '2 notices: Over: Customers: 5 held fields wait, 2 of them new.',
  ]);
});

test('each rule tells of its own: topics, kinds, knots, rhythm; what is gathered comes at its hour', async () => {
  now = Date.parse('2026-03-28T21:00:00Z');
  await keep({ name: 'systems', topics: ['system in trouble'], knots: ['none'] });
  await keep({ name: 'elsewhere', knots: ['none'] });
  await keep({ name: 'duplicates', topics: ['decision'], decisionKinds: ['duplicate'] });
  await keep({ name: 'off', isOn: false });
  const { id: morning } = await keep({
    name: 'morning',
    topics: ['run missed', 'system in trouble', 'decision'],
    rhythm: { kind: 'daily', at: '07:30' },
    tellsEnd: false,
  });
  await trouble('no answer');
  await openDecisions(1, 'held');
  await tell();
  expect((await messages()).map(({ ruleName }) => ruleName).sort()).toEqual(['elsewhere', 'systems']);
  await endRun('missed', '3 runs did not happen.');
  // That night the clocks are put forward in London.
  now = Date.parse('2026-03-29T06:29:00Z');
  await tell();
  expect(mail.mails).toHaveLength(2);
  now = Date.parse('2026-03-29T06:31:00Z');
  await tell();
  expect(subjects().slice(2)).toEqual([expect.stringMatching(/^3 notices: /)]);
  expect(mail.mails[2]?.text).toContain('3 runs did not happen.');
  const [{ due_at: due }] = (await sql('select due_at from notice_rule where id = $1', [morning])) as [
    { due_at: Date },
  ];
  expect(due.toISOString()).toBe('2026-03-30T06:30:00.000Z');
});

test('no more is sent in an hour than may be, and nothing of it is lost', async () => {
  await keep({ mostPerHour: 2, topics: ['run missed'] });
  for (let run = 1; run <= 6; run += 1) {
    await endRun('missed', `Run ${run} did not happen.`);
    await tell();
    now += minute;
  }
  expect(mail.mails).toHaveLength(2);
  now += hour;
  await tell();
  expect(subjects()[2]).toMatch(/^4 notices: /);
  for (const run of [3, 4, 5, 6]) expect(mail.mails[2]?.text).toContain(`Run ${run} did not happen.`);
});

test('a mail server that is away is tried again with pauses; an address that it refuses is not', async () => {
  await keep({ topics: ['run missed'] });
  await mail.stop();
  await endRun('missed', 'One.');
  await tell();
  const [waiting] = await messages();
  expect(waiting).toMatchObject({ state: 'waiting', attempts: 1, trouble: expect.stringMatching(/ECONNREFUSED/) });
  mail = await MailServer.start(Number(new URL(mail.url).port));
  await tell();
  expect(mail.mails).toHaveLength(0);
  now += minute;
  // A mailbox that is full for the moment is no reason to give up.
  mail.refusesWith = 452;
  await tell();
  expect((await messages())[0]).toMatchObject({ state: 'waiting', attempts: 2 });
  now += 5 * minute;
  mail.refusesWith = undefined;
  await tell();
  expect((await messages())[0]).toMatchObject({ state: 'sent', trouble: null });
  expect(mail.mails).toMatchObject([{ messageId: `<${waiting?.id}@hazelmoor.example>` }]);
  mail.refusesWith = 550;
  await endRun('missed', 'Two.');
  await tell();
  const [refused] = await messages();
  expect(refused).toMatchObject({ state: 'refused', trouble: expect.stringMatching(/no such mailbox/), nextAt: null });
  mail.refusesWith = undefined;
  now += 25 * hour;
  await tell();
  expect(mail.mails).toHaveLength(1);
  expect((await api.as('administrator', 'POST', `/api/notice-messages/${refused?.id}/again`)).statusCode).toBe(204);
  now = Date.now();
  await tell();
  expect(subjects()).toEqual(['Customers: One.', 'Customers: Two.']);
});

test('whoever dies between sending and noting it leaves a message that comes again, with the same id', async () => {
  await keep({ topics: ['run missed'] });
  await endRun('missed', 'One.');
  await installation.parts.notices.find(clock);
  const taken = await takeMessage(installation.parts.data, clock(), 120);
  await tell();
  expect(mail.mails).toHaveLength(0);
  now += 121_000;
  await tell();
  expect(mail.mails.map(({ messageId }) => messageId)).toEqual([`<${taken?.id}@hazelmoor.example>`]);
});

test('a program is told with a signature that a client of the specification takes, if it may be reached', async () => {
  const told: { headers: Record<string, string>; body: string }[] = [];
  let status = 200;
  const program: Server = createServer((request, response) => {
    let body = '';
    request.on('data', (part: Buffer) => (body += part.toString()));
    request.on('end', () => {
      told.push({ headers: request.headers as Record<string, string>, body });
      response.writeHead(status).end();
    });
  });
  await new Promise<void>((done) => program.listen(0, '127.0.0.1', done));
  const address = `http://127.0.0.1:${(program.address() as AddressInfo).port}/told?by=knot`;
  const { id, secret, revision } = await keep({
    topics: ['run missed'],
    recipients: [
      { kind: 'webhook', address },
      { kind: 'webhook', address: 'http://169.254.169.254/' },
    ],
  });
  expect(secret).toMatch(/^whsec_/);
  // It is shown once.
  expect(
    (await keep({ topics: ['run missed'], recipients: [{ kind: 'webhook', address }] }, id, revision)).secret,
  ).toBe(null);
  await keep({ topics: ['run missed'], recipients: [{ kind: 'webhook', address: 'http://169.254.169.254/' }] });
  await endRun('missed', 'One.');
  await tell();
  const verified = new Webhook(secret ?? '').verify(told[0]?.body ?? '', told[0]?.headers ?? {});
  expect(verified).toMatchObject({
    type: 'notices',
    notices: [{ topic: 'run missed', step: 'began', words: 'Customers: One.', knot: 'customers' }],
  });
  const inState = async (state: string) => (await messages()).filter((message) => message.state === state);
  expect(await inState('refused')).toMatchObject([{ trouble: expect.stringMatching(/no address of a system/) }]);
  status = 503;
  await endRun('missed', 'Two.');
  await tell();
  expect(await inState('waiting')).toMatchObject([{ trouble: 'It answered 503.' }]);
  status = 410;
  now += minute;
  await tell();
  expect(await inState('refused')).toHaveLength(3);
  program.close();
});

test('where much usually changes and nothing does, that is told; what is always quiet is not', async () => {
  await keep({ topics: ['unusually quiet'] });
  now = Date.parse('2026-11-29T14:20:00Z');
  const hourOf = (weeksAgo: number) => new Date(Date.parse('2026-11-29T13:00:00Z') - weeksAgo * 7 * 24 * hour);
  const changes = (member: string, weeksAgo: number, records: number) =>
    sql('insert into read_hour (knot_id, member, hour, records) values ($1, $2, $3, $4)', [
      'customers',
      member,
      hourOf(weeksAgo),
      records,
    ]);
  // One week of the four there was nothing either: a holiday.
  for (const [week, records] of [
    [1, 240],
    [2, 260],
    [4, 250],
  ] as const)
    await changes('crm', week, records);
  for (const week of [1, 2, 3, 4]) await changes('shop', week, 3);
  await tell();
  expect(subjects()).toEqual([
    expect.stringMatching(/^Customers: nothing has changed in Fernhill CRM since 13:00 UTC; /),
  ]);
  expect(mail.mails[0]?.text).toMatch(/usually about 2[45]0 changes/);
  // It waits for a person as well, once a day, who may say that it is so.
  const waiting = async () => (await installation.decisions()).map(({ kind, member, says }) => [kind, member, says]);
  const says = expect.stringMatching(/^Nothing has changed in Fernhill CRM since 13:00 UTC; .* See whether it is at/);
  expect(await waiting()).toEqual([['unusually quiet', 'crm', says]]);
  const [{ id = '', fingerprint = '' } = {}] = await installation.decisions();
  const seen = { choose: 'seen', fingerprint };
  expect((await api.as('operator', 'POST', `/api/knots/customers/decisions/${id}`, seen)).statusCode).toBe(200);
  await tell();
  expect(await waiting()).toEqual([]);
  await sql('delete from decision');
  await tell();
  expect(await waiting()).toHaveLength(1);
  // As soon as something changes it is over.
  await changes('crm', 0, 1);
  await tell();
  expect(subjects()[1]).toMatch(/^Over: Customers: nothing has changed/);
  expect(await waiting()).toEqual([]);
  await sql('update read_hour set records = 0 where hour = $1', [hourOf(0)]);
  await sql("update knot set state = 'paused'");
  await tell();
  expect(mail.mails).toHaveLength(2);
});

test('access that ends within two weeks is told of, and that it has ended; given anew it is over', async () => {
  await keep({ topics: ['access ends'] });
  const endsIn = (days: number) =>
    sql(`update system set access_ends_on = $1 where id = 'fernhill'`, [new Date(now + days * 24 * hour)]);
  await endsIn(20);
  await tell();
  expect(subjects()).toEqual([]);
  now = Date.parse('2026-12-01T12:00:00Z');
  await endsIn(9);
  await tell();
  await tell();
  expect(subjects()).toEqual([
    'The access to Fernhill CRM ends on 10 December 2026: its secret, certificate or consent is to be renewed by then.',
  ]);
  expect(mail.mails[0]?.text).toContain('/systems/fernhill/change');
  await endsIn(365);
  await tell();
  expect(subjects()[1]).toMatch(/^Over: The access to Fernhill CRM ends on 10 December/);
  await endsIn(-1);
  await tell();
  expect(subjects()[2]).toBe(
    'The access to Fernhill CRM ended on 30 November 2026: give it a new secret, certificate or consent.',
  );
});

test('a certificate that ends soon is told of; it is looked at after hours, no answer forgets nothing', async () => {
  await keep({ topics: ['access ends'] });
  const closed = `https://127.0.0.1:${await freePort()}`;
  await sql(
    `update system set description = jsonb_set(description::jsonb, '{address}', to_jsonb($1::text)),
       certificate_ends_at = $2 where id = 'fernhill'`,
    [closed, new Date(now + 9 * 24 * hour)],
  );
  await installation.parts.systems.lookAtCertificates(12);
  const seen = () => sql('select certificate_seen_at from system where id = $1', ['fernhill']);
  const first = await seen();
  await installation.parts.systems.lookAtCertificates(12);
  expect([await seen(), first]).toEqual([first, [{ certificate_seen_at: expect.any(Date) }]]);
  await tell();
  const [subject = ''] = subjects();
  expect(subject).toMatch(
    /^The certificate of Fernhill CRM ends on .* 2026: whoever runs it has to renew it by then\.$/,
  );
});

test('a consent is told of that ends soon, and not one that is prolonged whenever it is used', async () => {
  await keep({ topics: ['access ends'] });
  const said = (at: number, days: number) =>
    sql(`update system set consent_end_said_at = $1, consent_ends_at = $2 where id = 'fernhill'`, [
      new Date(at),
      new Date(at + days * 24 * hour),
    ]);
  await said(now - 10 * hour, 1);
  await tell();
  await said(now - 100 * 24 * hour, 120);
  await tell();
  expect(subjects()).toEqual([]);
  await said(now - 100 * 24 * hour, 110);
  await tell();
  expect(subjects()).toEqual([
    expect.stringMatching(/^The consent to Fernhill CRM ends on .*: somebody has to give it anew by then\.$/),
  ]);
  await said(now - 13 * hour, 1);
  await tell();
  expect(mail.mails[1]?.text).toMatch(/The consent to Fernhill CRM ends on .*: somebody has to give it anew/);
  await said(now - 50 * hour, 1);
  await tell();
  expect(mail.mails[2]?.text).toMatch(/ ended on .*: nothing is read or written there until somebody gives it anew\./);
});

test('however many look at once, and whatever happens between, each step is told by each rule once', async () => {
  const random = seededRandom(20261129);
  const others = await Promise.all(
    [1, 2].map(() =>
      openInstallation({
        DATABASE_URL: installation.url,
        SECRET_KEY: installation.key,
        REACHABLE_NETWORKS: [],
        FILE_FOLDERS: [],
      }),
    ),
  );
  closers.push(...others);
  const all = [installation.parts, ...others];
  const { id: first } = await keep({ isRepeated: true });
  const { id: second } = await keep({ isRepeated: true, rhythm: { kind: 'hourly' } });
  for (let turn = 0; turn < 80; turn += 1) {
    const act = Math.floor(random() * 6);
    if (act === 0) await trouble('no answer');
    if (act === 1) await trouble(null);
    if (act === 2) await endRun('failed');
    if (act === 3) await endRun('succeeded');
    if (act === 4) await endRun('missed', 'x');
    if (act === 5) await openDecisions(1, random() < 0.5 ? 'held' : 'duplicate');
    now += Math.floor(random() * 30) * minute;
    if (random() < 0.7) await Promise.all(all.map(({ notices }) => notices.find(clock)));
  }
  now += 2 * hour;
  await installation.parts.notices.find(clock);
  const steps = (await sql('select step, words from notice_step order by id')) as { step: string; words: string }[];
  expect(steps.length).toBeGreaterThan(20);
  for (const id of [first, second]) {
    const told = (await sql('select body from notice_message where rule_id = $1 order by created_at, id', [id])) as {
      body: { notices: { step: string; words: string }[] };
    }[];
    const lines = told.flatMap(({ body }) => body.notices.map(({ step, words }) => ({ step, words })));
    expect(lines).toEqual(steps);
  }
  const cases = (await sql(
    `select topic, string_agg(step, ' ' order by s.id) as steps from notice_step s join notice n on n.id = notice_id
     group by n.id, topic`,
  )) as { topic: string; steps: string }[];
  for (const found of cases) expect(found.steps).toMatch(/^began( again)*( over)?$/);
  expect(cases.filter((found) => found.steps.endsWith('over')).length).toBeGreaterThan(3);
});

test('what cannot be is refused with words; only administrators make rules, each on what they saw', async () => {
  const id = randomUUID();
  const put = async (changes: object, role: 'administrator' | 'editor' = 'administrator', revision = 0) =>
    api.as(role, 'PUT', `/api/notice-rules/${id}`, { rule: { ...rule, ...changes }, revision });
  const refusals: [object, RegExp][] = [
    [{ recipients: [] }, /somebody to tell/],
    [{ recipients: [{ kind: 'mail', address: 'a@x.example\r\nBcc: b@x.example' }] }, /address/],
    [{ recipients: [{ kind: 'webhook', address: 'file:///etc/passwd' }] }, /address/],
    [{ zone: 'Mars/Olympus' }, /time zone/],
    [{ rhythm: { kind: 'daily', at: '25:00' } }, /a time such as/],
    [{ topics: [] }, /something to tell of/],
    [{ knots: [] }, /a knot, or all/],
    [{ name: '  ' }, /name/],
  ];
  for (const [changes, says] of refusals) {
    const answer = await put(changes);
    expect([answer.statusCode, answer.body]).toEqual([400, expect.stringMatching(says)]);
  }
  expect((await put({}, 'editor')).statusCode).toBe(403);
  expect((await put({})).statusCode).toBe(200);
  expect((await put({})).statusCode).toBe(409);
  expect((await put({ name: 'Other' }, 'administrator', 1)).json()).toMatchObject({ revision: 2 });
  expect((await api.as('administrator', 'POST', `/api/notice-rules/${id}/test`)).statusCode).toBe(204);
  now = Date.now();
  await tell();
  expect(subjects()).toEqual(['A test of “Other”, sent by administrator: nothing has happened.']);
  expect((await api.as('administrator', 'DELETE', `/api/notice-rules/${id}`)).statusCode).toBe(204);
  await endRun('failed');
  await tell();
  expect(mail.mails).toHaveLength(1);
});

test('a worker tells by itself of a run that failed', async () => {
  await keep({ topics: ['run failed'] });
  await installation.startWorker();
  await installation.crm.close();
  await installation.shop.close();
  const { state } = await installation.run();
  expect(state).toBe('failed');
  for (const end = Date.now() + 20_000; mail.mails.length === 0 && Date.now() < end;)
    await new Promise((done) => setTimeout(done, 50));
  expect(mail.mails).toHaveLength(1);
  expect(subjects()[0]).toMatch(/^Customers: the run failed\. /);
});
