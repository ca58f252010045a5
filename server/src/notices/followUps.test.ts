/** Mails about single records: made from what real runs wrote, sent to a mail server that is none of ours. */
import { randomUUID } from 'node:crypto';
import type { FollowUp, FollowUpPreview } from '@anchor-knot/contracts';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { MailServer } from '../testing/mailServer.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { textOf } from './followUpTemplate.js';

const inBoth = 4;
let database: TestDatabase;
let mail: MailServer;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
});
beforeEach(async () => {
  mail = await MailServer.start();
  const data = generateCustomers({ seed: 5, inBoth, onlyCrm: 0, onlyShop: 0, mess: false });
  installation = await RealInstallation.start(database, data, { smtpUrl: mail.url });
  api = await ApiClient.start(installation);
  await run();
});
afterEach(async () => {
  await api.close();
  await installation.stop();
  await mail.stop();
});
afterAll(async () => {
  await database.stop();
});

const sql = (statement: string, parameters: unknown[] = []) => installation.parts.data.query(statement, parameters);
const followUp: FollowUp = {
  name: 'Shop desk',
  isOn: true,
  knot: 'customers',
  member: 'shop',
  outcomes: ['created', 'updated', 'refused'],
  addresses: ['desk@hazelmoor.example'],
  addressField: null,
  subject: '{{ title }} was {{ outcome }}',
  text: 'Town: {{ fields.town }}\nNote: {{ fields.note }}\n{{ words }}\n{{ here }}',
  mostPerHour: 100,
};
const keep = (changes: Partial<FollowUp> = {}, revision = 0, id: string = randomUUID()) =>
  api.as('administrator', 'PUT', `/api/follow-ups/${id}`, { followUp: { ...followUp, ...changes }, revision });
/** A run by a worker, which then goes; what it may have told of is told again. */
async function run(kind: 'run' | 'dry run' = 'run'): Promise<string> {
  await installation.startWorker();
  const { id } = await installation.run(kind, { overGuards: true });
  await installation.stopWorker();
  return id;
}
/** Three look at once. */
async function tell(): Promise<void> {
  await sql('delete from notice_message');
  mail.mails.length = 0;
  await sql('update run set is_followed = started_at < (select max(started_at) from run)');
  await Promise.all([1, 2, 3].map(() => installation.parts.followUps.tell(new Date())));
}
const made = async (): Promise<{ subject: string; text: string; html: string; recipient: { address: string } }[]> =>
  sql('select subject, text, html, recipient from notice_message order by subject, recipient');
const editTown = (account: string, town: string) =>
  editOnPage(installation.addresses.crm, account, { 'address.town': town });

test('each record that a run wrote is told of once, with its fields and where it is seen', async () => {
  expect((await keep({ addresses: ['desk@hazelmoor.example', 'halima@hazelmoor.example'] })).statusCode).toBe(200);
  await editTown('A-20001', 'Thornquay <b>');
  await editTown('A-20002', '{{ fields.email }}');
  await run();
  await tell();
  const told = await made();
  expect(told).toHaveLength(4);
  expect(new Set(told.map(({ recipient }) => recipient.address)).size).toBe(2);
  expect(told.every(({ subject }) => subject.endsWith(' was updated'))).toBe(true);
  const texts = told.map(({ text }) => text).join('\n');
  expect(texts).toContain('Town: Thornquay <b>');
  // What a record holds is no template.
  expect(texts).toContain('Town: {{ fields.email }}');
  expect(texts).toMatch(/https:\/\/knots\.hazelmoor\.example\/anchors\/[0-9a-f-]{36}/);
  expect(texts).toContain('You get this because of “Shop desk”.');
  expect(told.map(({ html }) => html).join('')).toContain('Thornquay &lt;b&gt;');
  await installation.parts.notices.send(() => new Date());
  expect(mail.mails.map(({ subject }) => subject).sort()).toEqual(told.map(({ subject }) => subject));
  // A dry run writes nothing, and is told to nobody.
  await editTown('A-20001', 'Fernhill');
  await run('dry run');
  await tell();
  expect(await made()).toEqual([]);
}, 60_000);

test('what was refused is told in the system’s words, also to the address that the record holds', async () => {
  await keep({ outcomes: ['refused'], addresses: [], addressField: 'email' });
  await editTown('A-20001', 'Thornquay');
  await run();
  await tell();
  expect(await made()).toEqual([]);
  await sql(`update plan_operation set state = 'refused', words = 'postcode invalid'`);
  await tell();
  expect(await made()).toMatchObject([
    { subject: expect.stringMatching(/ was refused$/), text: expect.stringContaining('postcode invalid') },
  ]);
  expect((await made())[0]?.recipient.address).toMatch(/@/);
});

test('of more than so many an hour one mail says how many, and where they are', async () => {
  await keep({ mostPerHour: 3 });
  for (let account = 1; account <= inBoth; account += 1) await editTown(`A-2000${account}`, `Quay ${account}`);
  const id = await run();
  await tell();
  const told = await made();
  expect(told).toHaveLength(4);
  expect(told[0]).toMatchObject({
    subject: 'Customers: 1 more of “Shop desk”',
    text: expect.stringContaining(`/runs/${id}`),
  });
});

test('a template that names what is not there, or is sensitive, is refused with words', async () => {
  const fields = demoKnot.fields.map((field) =>
    ['phone', 'company'].includes(field.id) ? { ...field, sensitive: true } : field,
  );
  const change = { definition: { ...demoKnot, fields }, basedOn: 1, draft: 0, note: '' };
  await installation.parts.knots.change(change, 'test');
  const says = async (changes: Partial<FollowUp>) => {
    const answer = await keep(changes);
    return [answer.statusCode, (answer.json() as { says: string }).says];
  };
  expect(await says({ text: '{{ fields.twon }}' })).toEqual([
    422,
    'The text names “fields.twon”, which is no field of the knot.',
  ]);
  expect(await says({ subject: '{{ run }}' })).toEqual([422, 'The subject names “run”, which is not there.']);
  expect(await says({ text: '{% for one in fields %}{{ one }}{% endfor %}' })).toEqual([
    422,
    expect.stringContaining('names'),
  ]);
  expect(await says({ text: '{% if %}' })).toEqual([422, expect.stringContaining('The text cannot be read')]);
  expect(await says({ text: '{% include "/etc/passwd" %}' })).toEqual([422, expect.stringContaining('cannot be read')]);
  expect(await says({ text: '{{ fields.phone }}' })).toEqual([
    422,
    'The text names “Phone”, which is sensitive: it stays out of mails.',
  ]);
  expect(await says({ member: 'erp' })).toEqual([422, 'The knot has no such member.']);
  expect((await keep({ addresses: [] })).statusCode).toBe(400);
  const preview = await api.as('administrator', 'POST', '/api/follow-ups/preview', followUp);
  const shown = preview.json() as FollowUpPreview;
  // The title is of a sensitive field: the record's key stands for it.
  expect(shown.subject).toMatch(/^7700\d was created$/);
});

test('a template that takes too long costs its own mail, and says so', async () => {
  const text = '{% for a in (1..9999999) %}{% for b in (1..9999999) %}x{% endfor %}{% endfor %}';
  await keep({ text });
  const shown = await api.as('administrator', 'POST', '/api/follow-ups/preview', { ...followUp, text });
  expect([shown.statusCode, shown.body]).toEqual([422, expect.stringContaining('It cannot be made')]);
  await editTown('A-20001', 'Thornquay');
  await run();
  await tell();
  const told = await made();
  expect(told.map(({ subject }) => subject)).toEqual(['Shop desk: a mail could not be made']);
  expect(told[0]?.text).toMatch(/77001\) was updated; its mail could not be made: .*limit/);
});

test('who changes what somebody else has changed is told; a test goes to oneself alone', async () => {
  const id = randomUUID();
  expect((await keep({}, 0, id)).json()).toEqual({ revision: 1 });
  expect((await keep({ name: 'Desk' }, 1, id)).json()).toEqual({ revision: 2 });
  expect((await keep({ name: 'Other' }, 1, id)).statusCode).toBe(409);
  expect((await api.as('administrator', 'POST', `/api/follow-ups/${id}/test`)).statusCode).toBe(204);
  const [one, ...more] = await made();
  expect([one?.recipient.address, more]).toEqual([expect.stringContaining('@'), []]);
  expect(one?.recipient.address).not.toBe(followUp.addresses[0]);
  expect((await api.as('administrator', 'DELETE', `/api/follow-ups/${id}`)).statusCode).toBe(204);
  expect((await api.as('administrator', 'DELETE', `/api/follow-ups/${id}`)).statusCode).toBe(404);
});

test('values are said as people write them', () => {
  expect([null, true, false, 'Quay', ['a', 'b'], undefined].map(textOf)).toEqual(['', 'yes', 'no', 'Quay', 'a, b', '']);
});
