/**
 * What a person does with decisions besides deciding one: many at once, back again, later, by somebody else, corrected
 * where it stands. Real systems, a real database, the API.
 */
import type {
  AnchorView,
  Correction,
  DecidedMany,
  Decision,
  DecisionList,
  FoundAnchors,
  RecordToCorrect,
} from '@anchor-knot/contracts';
import { editOnPage, generateCustomers } from '@anchor-knot/standins';
import { ApiClient } from '../testing/apiClient.js';
import { demoKnot, RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const data = generateCustomers({ seed: 5, inBoth: 12, onlyCrm: 0, onlyShop: 0, mess: false });
const both = data.truth.flatMap(({ crm, shop }) => (crm[0] && shop[0] ? [{ crm: crm[0], shop: shop[0] }] : []));
const phoneIn = { crm: (digits: string) => `+44 1632 960${digits}`, shop: (digits: string) => `01632 960${digits}` };

let database: TestDatabase;
let installation: RealInstallation;
let api: ApiClient;
beforeAll(async () => {
  database = await TestDatabase.start();
  installation = await RealInstallation.start(database, data, { knot: demoKnot });
  await installation.startWorker();
  api = await ApiClient.start(installation);
  await installation.run();
});
afterAll(async () => {
  await api.close();
  await installation.stop();
  await database.stop();
});

const get = async <T>(path: string): Promise<T> => (await api.as('operator', 'GET', path)).json() as T;
const post = async <T>(path: string, body: object): Promise<T> =>
  (await api.as('operator', 'POST', path, body)).json() as T;
const list = async (query = ''): Promise<Decision[]> => (await get<DecisionList>(`/api/decisions${query}`)).decisions;
const nameOf = ({ knot, id }: Decision) => ({ knot, decision: id });
const takeValue = (decision: Decision, member: string) => {
  const { candidates } = (decision as Extract<Decision, { kind: 'held' }>).detail;
  const given = candidates.find(({ givers }) =>
    givers.some((giver) => giver.kind === 'member' && giver.member === member),
  );
  const { fingerprint } = decision;
  return { ...nameOf(decision), choice: { choose: 'value', value: given?.value ?? null, fingerprint } };
};

/** Edits a phone differently on both sides of some customers, and runs. */
async function conflicts(from: number, to: number): Promise<Decision[]> {
  for (const [index, { crm, shop }] of both.slice(from, to).entries()) {
    await editOnPage(installation.addresses.crm, crm, { 'contact.phone': phoneIn.crm(String(101 + from + index)) });
    await editOnPage(installation.addresses.shop, shop, { tel: phoneIn.shop(String(201 + from + index)) });
  }
  await installation.run();
  return list('?kind=held');
}

test('several are decided at once, each by itself; what changed meanwhile is told; all are taken back', async () => {
  const held = await conflicts(0, 4);
  expect(held).toHaveLength(4);
  expect(held.map(({ subject }) => subject)).toEqual(held.map(({ title }) => title));
  const choices = held.map((decision) => takeValue(decision, 'shop'));
  const stale = { ...choices[3], choice: { ...choices[3]?.choice, fingerprint: 'old' } };
  const outcome = await post<DecidedMany>('/api/decisions/decide', { decisions: [...choices.slice(0, 3), stale] });
  expect(outcome.done).toEqual(held.slice(0, 3).map(({ id }) => id));
  expect(outcome.not).toEqual([{ decision: held[3]?.id, says: expect.stringContaining('changed since') }]);
  expect(await list('?kind=held')).toHaveLength(1);

  const before = await get<AnchorView>(`/api/anchors/${held[0]?.anchor ?? ''}`);
  expect(before.journal.some(({ kind }) => kind === 'chosen')).toBe(true);
  const undone = await post<DecidedMany>('/api/decisions/undo', { decisions: held.map(nameOf) });
  expect(undone.done).toHaveLength(4);
  expect((await list('?kind=held')).map(({ fingerprint }) => fingerprint)).toEqual(
    held.map(({ fingerprint }) => fingerprint),
  );
  const after = await get<AnchorView>(`/api/anchors/${held[0]?.anchor ?? ''}`);
  expect(after.fields.find(({ id }) => id === 'phone')?.agreed).not.toEqual(
    before.fields.find(({ id }) => id === 'phone')?.agreed,
  );
  expect(after.journal.some(({ kind }) => kind === 'chosen')).toBe(false);
});

test('after a run has acted on it, a decision is not taken back', async () => {
  const [first] = await list('?kind=held');
  if (!first) throw new Error('nothing is held');
  await post('/api/decisions/decide', { decisions: [takeValue(first, 'crm')] });
  await installation.run();
  const { done, not } = await post<DecidedMany>('/api/decisions/undo', { decisions: [nameOf(first)] });
  expect([done, not[0]?.says]).toEqual([[], expect.stringContaining('a run has begun since')]);
  const view = await get<AnchorView>(`/api/anchors/${first.anchor ?? ''}`);
  expect(view.fields.find(({ id }) => id === 'phone')?.agreed?.by).toMatchObject({ kind: 'person' });
});

test('what is put off stands in another list until its day; what is given away says to whom', async () => {
  const [one, two, three] = await list('?kind=held');
  if (!one || !two || !three) throw new Error('three are needed');
  const day = (days: number): string => new Date(Date.now() + days * 86_400_000).toISOString();
  await post('/api/decisions/put-off', { decisions: [one, two].map(nameOf), until: day(2) });
  expect((await list('?kind=held')).map(({ id }) => id)).toEqual([three.id]);
  const { waiting } = await get<{ waiting: { kind: string; count: number }[] }>('/api/watch');
  expect(waiting.find(({ kind }) => kind === 'held')?.count).toBe(1);
  expect((await list('?list=put%20off')).map(({ id }) => id).sort()).toEqual([one.id, two.id].sort());
  // Runs leave it where it is; its day has come, or somebody asks for it.
  await installation.run();
  expect(await list('?kind=held')).toHaveLength(1);
  await post('/api/decisions/put-off', { decisions: [nameOf(one)], until: day(-1) });
  await post('/api/decisions/put-off', { decisions: [nameOf(two)], until: null });
  expect(await list('?kind=held')).toHaveLength(3);

  const { people } = await get<{ people: { email: string; name: string }[] }>('/api/colleagues');
  expect(people.map(({ name }) => name)).toEqual(['administrator', 'editor', 'operator']);
  await post('/api/decisions/give', {
    decisions: [nameOf(one)],
    to: 'operator@x.example',
    note: ' look at the phone ',
  });
  const [mine] = await list('?list=mine');
  expect([mine?.id, mine?.givenTo, mine?.note]).toEqual([
    one.id,
    { email: 'operator@x.example', name: 'operator' },
    'look at the phone',
  ]);
  const nobody = await api.as('operator', 'POST', '/api/decisions/give', {
    decisions: [nameOf(one)],
    to: 'wren@x.example',
    note: '',
  });
  expect(nobody.statusCode).toBe(422);
});

test('they are found by system, by field and by age, and one is found wherever it stands', async () => {
  const held = await list('?kind=held');
  expect(await list('?kind=held&system=marketRow')).toHaveLength(held.length);
  expect(await list('?kind=held&system=nowhere')).toEqual([]);
  expect(await list('?kind=held&field=town')).toEqual([]);
  expect(await list('?kind=held&days=1')).toEqual([]);
  const { decision, members } = await get<{ decision: Decision; members: unknown[] }>(
    `/api/decisions/${held[0]?.id ?? ''}`,
  );
  expect([decision.id, members.length]).toEqual([held[0]?.id, 2]);
  expect((await api.as('viewer', 'GET', '/api/decisions/999999')).statusCode).toBe(404);
});

test('a value that cannot be read is corrected where it stands; the next run takes it as an edit there', async () => {
  const { crm = '' } = both[8] ?? {};
  await editOnPage(installation.addresses.crm, crm, { 'contact.phone': 'see remark' });
  await installation.run();
  const [unreadable] = await list('?kind=unreadable');
  if (!unreadable) throw new Error('it can be read');
  const path = `/api/knots/customers/decisions/${unreadable.id}`;
  const record = await get<RecordToCorrect>(`${path}/record`);
  const phone = record.fields.find(({ id }) => id === 'phone');
  expect([record.key, phone?.raw, phone?.reason !== null]).toEqual([crm, 'see remark', true]);
  const send = async (values: Correction['values'], version = record.version) => {
    const answer = await api.as('operator', 'POST', `${path}/correct`, { version, values });
    return [answer.statusCode, (answer.json() as { says?: string }).says ?? ''] as const;
  };
  // What would be no better, or over an edit that nobody saw, is not written.
  expect(await send({ phone: 'see remarks' })).toEqual([409, expect.stringContaining('still not be read')]);
  expect(await send({ company: '' })).toEqual([409, expect.stringContaining('still be rejected')]);
  expect(await send({ phone: phoneIn.crm('777') }, 'older')).toEqual([
    409,
    expect.stringContaining('since you saw it'),
  ]);
  expect(await send({ nothing: 'x' })).toEqual([409, expect.stringContaining('cannot be changed')]);
  expect(await send({ phone: phoneIn.crm('777') })).toEqual([200, '']);
  expect(await list('?kind=unreadable')).toEqual([]);
  await installation.run();
  const view = await get<AnchorView>(`/api/anchors/${unreadable.anchor ?? ''}`);
  const field = view.fields.find(({ id }) => id === 'phone');
  expect([field?.agreed?.value, field?.cells.shop?.raw]).toEqual(['+441632960777', '01632 960777']);
  expect(view.journal).toContainEqual(
    expect.objectContaining({ kind: 'update', member: 'crm', before: 'see remark', after: phoneIn.crm('777') }),
  );
});

test('a system in trouble is named when a record of it is to be corrected', async () => {
  const { crm = '' } = both[9] ?? {};
  await editOnPage(installation.addresses.crm, crm, { 'contact.phone': 'none' });
  await installation.run();
  const [unreadable] = await list('?kind=unreadable');
  await installation.faults('crm', { refuseSignIn: true });
  const troubled = await api.as('operator', 'GET', `/api/knots/customers/decisions/${unreadable?.id ?? ''}/record`);
  expect([troubled.statusCode, (troubled.json() as { says: string }).says]).toEqual([
    409,
    expect.stringMatching(/sign-in/),
  ]);
  await installation.faults('crm', {});
});

test('anchors of every knot are found by a part of their name or a key, those that begin with it first', async () => {
  const { anchors } = await get<FoundAnchors>(`/api/anchors?search=${both[0]?.shop.slice(1) ?? ''}`);
  expect(anchors.some(({ keys }) => keys.includes(both[0]?.shop ?? ''))).toBe(true);
  expect(anchors[0]?.knotName).toBe('Customers');
  const title = anchors[0]?.title ?? '';
  const found = await get<FoundAnchors>(`/api/anchors?search=${encodeURIComponent(title.slice(0, 5).toUpperCase())}`);
  expect(found.anchors[0]?.title.toLowerCase().startsWith(title.slice(0, 5).toLowerCase())).toBe(true);
  expect((await get<FoundAnchors>('/api/anchors?search=100%25_')).anchors).toEqual([]);
});

test('a paused knot runs only dry, and is taken up again; an ended one is kept with all that it has', async () => {
  const start = async (kind: 'run' | 'dry run') => {
    const answer = await api.as('operator', 'POST', '/api/knots/customers/runs', { kind });
    return [answer.statusCode, (answer.json() as { code?: string; run?: string }).code ?? 'started'];
  };
  const setState = async (state: string) =>
    (await api.as('editor', 'PUT', '/api/knots/customers/state', { state })).statusCode;
  expect(await setState('paused')).toBe(200);
  expect(await start('run')).toEqual([409, 'paused']);
  expect(await start('dry run')).toEqual([202, 'started']);
  expect(await setState('ended')).toBe(200);
  expect(await start('run')).toEqual([409, 'ended']);
  const { standing, anchors } = await get<{ standing: { state: string; by: string }; anchors: number }>(
    '/api/knots/customers',
  );
  expect([standing.state, standing.by, anchors]).toEqual(['ended', 'editor', 12]);
  expect(await setState('running')).toBe(200);
  expect(await start('run')).toEqual([202, 'started']);
  expect((await api.as('editor', 'PUT', '/api/knots/nothing/state', { state: 'paused' })).statusCode).toBe(404);
});

test('what was done to the thing since is not overwritten by taking a decision back', async () => {
  const [first] = await conflicts(10, 11);
  if (!first?.anchor) throw new Error('nothing is held');
  await post('/api/decisions/decide', { decisions: [takeValue(first, 'crm')] });
  await post(`/api/anchors/${first.anchor}/regroup`, { kind: 'split', members: ['shop'] });
  const { done, not } = await post<DecidedMany>('/api/decisions/undo', { decisions: [nameOf(first)] });
  expect([done, not[0]?.says]).toEqual([[], expect.stringContaining('the thing was changed since then')]);
  const { members, fields } = await get<AnchorView>(`/api/anchors/${first.anchor}`);
  expect(members.find(({ id }) => id === 'shop')?.key).toBeNull();
  expect(fields.find(({ id }) => id === 'phone')?.agreed?.by).toMatchObject({ kind: 'person' });
});

test('a correction never goes over an edit that nobody saw, in a system without versions too', async () => {
  const { shop = '' } = both[11] ?? {};
  await editOnPage(installation.addresses.shop, shop, { tel: 'see remark' });
  await installation.run();
  const waiting = await list('?kind=unreadable');
  const unreadable = waiting.find(({ member }) => member === 'shop');
  if (!unreadable) throw new Error('it can be read');
  const path = `/api/knots/customers/decisions/${unreadable.id}`;
  const look = () => get<RecordToCorrect>(`${path}/record`);
  const send = async (version: string | null) =>
    (await api.as('operator', 'POST', `${path}/correct`, { version, values: { phone: phoneIn.shop('778') } }))
      .statusCode;
  const seen = await look();
  await editOnPage(installation.addresses.shop, shop, { tel: '01632 960779' });
  expect(await send(seen.version)).toBe(409);
  expect((await look()).fields.find(({ id }) => id === 'phone')?.raw).toBe('01632 960779');
  expect(await send((await look()).version)).toBe(200);
});
