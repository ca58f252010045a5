/**
 * Tickets of the desk become tasks on the boards, of the right people: the demo's own knots over real HTTP and two real
 * databases, with what refers to whom by a key, by an email and by a number.
 */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { FastifyInstance } from 'fastify';
import { httpSystemSchema, knotFileSchema } from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import {
  boardsServer,
  type ContactPerson,
  deskServer,
  generateBusiness,
  generateCustomers,
  agentWhoLeft,
  generateWork,
  noFaults,
} from '@anchor-knot/standins';
import { RealErp } from '../testing/realErp.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { keepSeries } from '../persistence/tables/seriesLists.js';
import { TestDatabase } from '../testing/testDatabase.js';

const demo = join(import.meta.dirname, '../../demo');
const knotOf = (file: string): Knot =>
  knotFileSchema.parse(JSON.parse(readFileSync(join(demo, `${file}.knot.json`), 'utf8'))).knot;
const descriptions = JSON.parse(readFileSync(join(demo, 'systems.json'), 'utf8')) as Record<string, object>;

const data = generateCustomers({ seed: 5, inBoth: 30, onlyCrm: 1, onlyShop: 3, mess: false });
const business = generateBusiness(data, { seed: 5, documents: 10, mess: false });
// The board under which tasks stand is the demo's: thirty projects of ten tasks before it.
const work = generateWork(data, { seed: 5, tickets: 40, projects: 30, tasksEach: 10 });
const people: ContactPerson[] = work.requesters.slice(0, 3).map(({ email }, index) => ({
  id: `P-${index}`,
  accountId: data.accounts[0]?.id ?? '',
  firstName: 'Ada',
  lastName: `Contact ${index}`,
  email,
  role: 'buyer',
  modifiedAt: '2026-03-02T09:00:00.000Z',
}));
const isTaken = ({ priority, state }: (typeof work.tickets)[number]): boolean =>
  priority <= 2 && (state === 'open' || state === 'waiting');
const taken = work.tickets.filter(isTaken);
/** The row of the boards for all that the desk is asked. */
const desk = 'R4331';
const groupOf = ({ priority }: (typeof work.tickets)[number]): string => (priority === 1 ? 'Urgent' : 'Soon');

let database: TestDatabase;
let erpDatabase: TestDatabase;
let erp: RealErp;
let installation: RealInstallation;
let servers: FastifyInstance[];
let addresses: { readonly desk: string; readonly boards: string };

beforeAll(async () => {
  [database, erpDatabase] = await Promise.all([TestDatabase.start(), TestDatabase.start()]);
});
beforeEach(async () => {
  erp = await RealErp.open(erpDatabase, business);
  installation = await RealInstallation.start(database, data, { crm: { people } });
  const secret = 'token';
  const desk = await deskServer({ ...work, token: secret });
  const boards = await boardsServer({ rows: work.rows, key: secret, faults: { callsPerSecond: 0 } });
  servers = [desk, boards];
  const listen = (app: FastifyInstance) => app.listen({ host: '127.0.0.1', port: 0 });
  addresses = { desk: await listen(desk), boards: await listen(boards) };
  for (const [id, address] of [
    ['bellpull', addresses.desk],
    ['pegline', addresses.boards],
  ] as const)
    await installation.parts.systems.save({
      id,
      description: httpSystemSchema.parse({ ...descriptions[id], address, budget: undefined }),
      pennant: { pattern: 'disc', colour: 'kelp', letters: 'XX' },
      credential: { id: 'id', secret },
    });
  await erp.connectTo(installation);
  const service = { name: 'Service', prefix: 'S', digits: 4, yearly: true, zone: 'Europe/London' };
  await keepSeries(installation.parts.data, { id: 'service', series: service, next: 7, revision: 0 }, '', Date.now());
  for (const file of ['orders', 'orderLines', 'people', 'requesters', 'tickets', 'ticketGroups', 'ticketComments'])
    await installation.parts.knots.create(knotOf(file), 'test');
  await installation.startWorker();
});
afterEach(async () => {
  await installation.stop();
  for (const server of servers) await server.close();
  await erp.close();
});
afterAll(async () => {
  await Promise.all([database.stop(), erpDatabase.stop()]);
});

const run = async (knot: string) => {
  const { progress, words, state } = await installation.run('run', { knot, overGuards: true });
  if (state === 'failed') throw new Error(words ?? '');
  return progress?.tally ?? {};
};
async function all(): Promise<void> {
  for (const knot of ['people', 'requesters', 'orders', 'tickets', 'ticketGroups', 'tickets']) await run(knot);
}
interface Row {
  readonly row: string;
  readonly parent: string | null;
  readonly cells: Readonly<Record<string, string | null>>;
}
async function rowsBelow(): Promise<Row[]> {
  const found: Row[] = [];
  for (let page = 1; ; page += 1) {
    const answer = await fetch(`${addresses.boards}/v2/boards/installations/rows?level=sub&size=100&page=${page}`, {
      headers: { 'x-pegline-key': 'token' },
    });
    const { rows } = (await answer.json()) as { rows: Row[] };
    found.push(...rows);
    if (rows.length < 100) return found;
  }
}
const tasks = async (): Promise<ReadonlyMap<string, Row>> =>
  new Map((await rowsBelow()).flatMap((row) => (row.cells.ticket ? [[row.cells.ticket, row] as const] : [])));
/** The rows under which tasks stand, by what they are called. */
const groups = async (): Promise<ReadonlyMap<string, Row>> =>
  new Map((await rowsBelow()).filter(({ parent }) => parent === desk).map((row) => [row.cells.title ?? '', row]));
async function putCells(row: string, cells: object): Promise<void> {
  const answer = await fetch(`${addresses.boards}/v2/boards/installations/rows/${row}`, {
    method: 'PUT',
    headers: { 'x-pegline-key': 'token', 'content-type': 'application/json' },
    body: JSON.stringify({ cells }),
  });
  expect(answer.status).toBe(200);
}
async function putTicket(id: string, change: object): Promise<void> {
  const answer = await fetch(`${addresses.desk}/desk/tickets/${id}`, {
    method: 'PATCH',
    headers: { authorization: 'Bearer token', 'content-type': 'application/json' },
    body: JSON.stringify(change),
  });
  expect(answer.status).toBe(200);
}
async function ticket(id: string): Promise<(typeof work.tickets)[number]> {
  const answer = await fetch(`${addresses.desk}/desk/tickets/${id}`, { headers: { authorization: 'Bearer token' } });
  return (await answer.json()) as (typeof work.tickets)[number];
}

test('a ticket becomes a task of the same agent, for whom it is by mail; done there, it is solved here', async () => {
  await all();
  const made = await tasks();
  const rows = await groups();
  expect([...rows.keys()].sort()).toEqual([...new Set(taken.map(groupOf))].sort());
  const requesterOf = new Map(work.requesters.map((one) => [Number(one.id), one]));
  // Who has left is known to nobody, until somebody says who stands for her.
  const known = (agent: string | null): string | null => (agent === agentWhoLeft ? null : agent);
  // Without a mail nobody can be told of on the boards: the task is made, and what is missing waits.
  expect(
    [...made].map(([id, { parent, cells }]) => [id, parent, cells.lead, cells.stage, cells.client]).sort(),
  ).toEqual(
    taken
      .map((one) => [
        one.id,
        rows.get(groupOf(one))?.row,
        known(one.agent),
        'doing',
        requesterOf.get(one.requester_id)?.email ?? null,
      ])
      .sort(),
  );
  // Each has the next service number, here and there.
  const numbers = [...made.values()].map(({ cells }) => cells.service ?? '').sort();
  expect(numbers.map((number) => Number(number.split('-')[1]))).toEqual(numbers.map((_, place) => place + 7));
  for (const [id, { cells }] of made) expect((await ticket(id)).service_no).toBe(cells.service);
  const { desk, boards } = await run('tickets');
  expect([desk?.update, boards?.create, boards?.update]).toEqual([0, 0, 0]);

  const [one, other] = taken as [(typeof taken)[number], (typeof taken)[number]];
  await putCells(made.get(one.id)?.row ?? '', { stage: 'done', hours: '1,5', lead: 'sunniva.dahl' });
  await run('tickets');
  // Of several states that mean the same the first is written; who waits stays waiting.
  expect(await ticket(one.id)).toMatchObject({ state: 'solved', hours: 1.5, agent: 'sunniva.dahl' });
  expect(await ticket(other.id)).toMatchObject({ state: other.state, agent: other.agent });
});

test('somebody who is no colleague is not written: that field waits, the others go on', async () => {
  await all();
  const made = await tasks();
  const one = taken.find(({ agent }) => agent !== null) as (typeof taken)[number];
  await putCells(made.get(one.id)?.row ?? '', { lead: 'somebody.else', stage: 'done' });
  await run('tickets');
  expect(await ticket(one.id)).toMatchObject({ state: 'solved', agent: one.agent });
  expect((await installation.decisions()).filter(({ kind }) => kind === 'waiting')).toContainEqual(
    expect.objectContaining({
      member: 'boards',
      detail: expect.objectContaining({ knot: 'people', value: 'somebody.else' }),
    }),
  );
});

test('a task stands under the group of its ticket; a group has their hours, and goes when it is empty', async () => {
  await all();
  const urgent = taken.filter(({ priority }) => priority === 1);
  const [first, ...others] = urgent as [(typeof taken)[number]];
  await putTicket(first.id, { hours: 1.5 });
  for (const { id } of others) await putTicket(id, { hours: 0.25 });
  for (const knot of ['tickets', 'ticketGroups']) await run(knot);
  const hours = 1.5 + 0.25 * others.length;
  expect((await groups()).get('Urgent')?.cells.hours).toBe(String(hours).replace('.', ','));
  for (const { id } of urgent) await putTicket(id, { priority: 2 });
  for (const knot of ['tickets', 'ticketGroups']) await run(knot);
  const left = await groups();
  expect([...left.keys()]).toEqual(['Soon']);
  expect(new Set([...(await tasks()).values()].map(({ parent }) => parent))).toEqual(new Set([left.get('Soon')?.row]));
  // What comes into a group that was taken away begins it anew.
  await putTicket(first.id, { priority: 1 });
  for (const knot of ['tickets', 'ticketGroups', 'tickets']) await run(knot);
  expect((await tasks()).get(first.id)?.parent).toBe((await groups()).get('Urgent')?.row);
  const { boards } = await run('tickets');
  expect([boards?.create, boards?.update]).toEqual([0, 0]);
});

interface Note {
  readonly id: string;
  readonly row: string;
  readonly text: string;
  readonly at: string;
}
const boardsAsk = async <Answer>(path: string, body?: object): Promise<Answer> =>
  (await (
    await fetch(`${addresses.boards}/v2/boards/installations/${path}`, {
      method: body ? 'POST' : 'GET',
      headers: { 'x-pegline-key': 'token', 'content-type': 'application/json' },
      ...(body ? { body: JSON.stringify(body) } : {}),
    })
  ).json()) as Answer;
const notes = async (): Promise<readonly Note[]> => (await boardsAsk<{ notes: Note[] }>('notes?size=100')).notes;
async function comments(): Promise<(typeof work.comments)[number][]> {
  const answer = await fetch(`${addresses.desk}/desk/comments?limit=200`, {
    headers: { authorization: 'Bearer token' },
  });
  return ((await answer.json()) as { items: (typeof work.comments)[number][] }).items;
}

test('what is said about a ticket is carried over once and in its order, also where answers are lost', async () => {
  await all();
  const rowOf = new Map([...(await tasks())].map(([id, { row }]) => [Number(id), row]));
  await fetch(`${addresses.boards}/faults.json`, {
    method: 'PUT',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ ...noFaults, dropAfterWrite: 0.4 }),
  });
  // What was written before another one is made before it, whatever their numbers are.
  const inOrder = work.comments.toSorted((one, other) => (one.written < other.written ? -1 : 1));
  for (let rounds = 0; rounds < 4; rounds += 1) await run('ticketComments');
  const made = await notes();
  expect(made.map(({ row, text, at }) => [row, text, at])).toEqual(
    inOrder.map(({ ticket_id, text, written }) => [rowOf.get(ticket_id), text, written]),
  );
  expect(made.length).toBeGreaterThan(4);

  const [ticketId, row] = [...rowOf][0] as [number, string];
  for (const [text, at] of [
    ['Later', '2026-10-02T10:00:00.000Z'],
    ['Sooner', '2026-10-02T09:00:00.000Z'],
  ])
    await boardsAsk('notes', { row, text, at, by: 'sunniva.dahl' });
  await run('ticketComments');
  expect((await comments()).slice(-2).map((one) => [one.ticket_id, one.text, one.by])).toEqual([
    [ticketId, 'Sooner', 'sunniva.dahl'],
    [ticketId, 'Later', 'sunniva.dahl'],
  ]);
  const { desk: toDesk, boards } = await run('ticketComments');
  expect([toDesk?.create, boards?.create, (await notes()).length]).toEqual([0, 0, made.length + 2]);
});
