/**
 * Projects and tasks stand under each other on the boards and in the ERP: the demo's own knot over real HTTP and a real
 * database, made from the top by one run, moved on both sides, never in a circle.
 */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { FastifyInstance } from 'fastify';
import { httpSystemSchema, knotFileSchema } from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import {
  boardsServer,
  deskServer,
  editOnPage,
  generateBusiness,
  generateCustomers,
  generateWork,
} from '@anchor-knot/standins';
import { RealErp } from '../testing/realErp.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';

const demo = join(import.meta.dirname, '../../demo');
const knotOf = (file: string): Knot =>
  knotFileSchema.parse(JSON.parse(readFileSync(join(demo, `${file}.knot.json`), 'utf8'))).knot;
const descriptions = JSON.parse(readFileSync(join(demo, 'systems.json'), 'utf8')) as Record<string, object>;

const data = generateCustomers({ seed: 7, inBoth: 10, onlyCrm: 1, onlyShop: 1, mess: false });
const business = generateBusiness(data, { seed: 7, documents: 2, mess: false });
const work = generateWork(data, { seed: 7, tickets: 4, projects: 3, tasksEach: 4 });
/** A task of a task: what a gutter takes, on the first board. */
const deep = { id: 'R4900', parent: 'R4002', cells: { title: 'Order the gutter', stage: 'to do' } };
const rows = [...work.rows, deep];
/** The board of the service desk is no project. */
const taken = rows.filter(({ cells }) => cells.title !== 'Service desk');

let database: TestDatabase;
let erpDatabase: TestDatabase;
let erp: RealErp;
let installation: RealInstallation;
let servers: FastifyInstance[];
let boardsAt: string;

beforeAll(async () => {
  [database, erpDatabase] = await Promise.all([TestDatabase.start(), TestDatabase.start()]);
});
beforeEach(async () => {
  erp = await RealErp.open(erpDatabase, business);
  await erp.pool.query('truncate job');
  installation = await RealInstallation.start(database, data);
  const secret = 'token';
  const desk = await deskServer({ tickets: work.tickets, requesters: work.requesters, token: secret });
  const boards = await boardsServer({ rows, key: secret, faults: { callsPerSecond: 0 } });
  servers = [desk, boards];
  const listen = (app: FastifyInstance) => app.listen({ host: '127.0.0.1', port: 0 });
  const deskAt = await listen(desk);
  boardsAt = await listen(boards);
  for (const [id, address] of [
    ['bellpull', deskAt],
    ['pegline', boardsAt],
  ] as const)
    await installation.parts.systems.save({
      id,
      description: httpSystemSchema.parse({ ...descriptions[id], address, budget: undefined }),
      pennant: { pattern: 'disc', colour: 'kelp', letters: 'XX' },
      credential: { id: 'id', secret },
    });
  await erp.connectTo(installation);
  for (const file of ['people', 'projects']) await installation.parts.knots.create(knotOf(file), 'test');
  await installation.startWorker();
  await run('people');
});
afterEach(async () => {
  await installation.stop();
  for (const server of servers) await server.close();
  await erp.close();
});
afterAll(async () => {
  await Promise.all([database.stop(), erpDatabase.stop()]);
});

async function run(knot = 'projects', overGuards = false) {
  const { progress, words, state } = await installation.run('run', { knot, overGuards });
  if (state === 'failed') throw new Error(words ?? '');
  return { state, boards: progress?.tally.boards, erp: progress?.tally.erp };
}
interface Job {
  readonly job_no: string;
  readonly parent_no: string | null;
  readonly title: string;
  readonly board_row: string | null;
}
async function jobs(): Promise<readonly Job[]> {
  return (await erp.pool.query<Job>('select * from job order by job_no')).rows;
}
/** For each job the row on the boards that it is from, and the one that its parent is from. */
async function tree(): Promise<(readonly [string | null, string | null])[]> {
  const all = await jobs();
  const rowOf = new Map(all.map(({ job_no, board_row }) => [job_no, board_row]));
  return all
    .map(({ board_row, parent_no }) => [board_row, parent_no && (rowOf.get(parent_no) ?? null)] as const)
    .toSorted(([one], [other]) => String(one).localeCompare(String(other)));
}
const jobOf = async (row: string): Promise<Job> => {
  const job = (await jobs()).find(({ board_row }) => board_row === row);
  if (!job) throw new Error(`no job of ${row}`);
  return job;
};
async function parentOnBoards(row: string): Promise<string | null> {
  const answer = await fetch(`${boardsAt}/v2/boards/installations/rows/${row}`, {
    headers: { 'x-pegline-key': 'token' },
  });
  return ((await answer.json()) as { row: { parent: string | null } }).row.parent;
}
const expected = taken.map(({ id, parent }) => [id, parent] as const);

test('all levels are made by one run, each under what it is part of; the next one does nothing', async () => {
  const { state, erp: made } = await run();
  expect(state).toBe('succeeded');
  expect(made).toMatchObject({ create: taken.length, written: taken.length, failed: 0 });
  expect(await tree()).toEqual(expected.toSorted(([one], [other]) => one.localeCompare(other)));
  const again = await run();
  expect([again.erp?.create, again.erp?.update, again.boards?.create, again.boards?.update]).toEqual([0, 0, 0, 0]);
});

test('what is moved on one side is moved on the other; a job made there gets its row under the right one', async () => {
  await run();
  await editOnPage(boardsAt, 'R4002', { under: 'R4006' });
  await erp.pool.query('insert into job (parent_no, title) values ($1, $2)', [
    (await jobOf('R4900')).job_no,
    'Fetch the gutter',
  ]);
  await run();
  expect((await jobOf('R4002')).parent_no).toBe((await jobOf('R4006')).job_no);
  // The row that was made is known to its job with the next run: it is the key of a record.
  await run();
  const fetched = (await jobs()).find(({ title }) => title === 'Fetch the gutter');
  expect(await parentOnBoards(String(fetched?.board_row))).toBe('R4900');
});

test('what was written while its place waited is not taken for an edit when that is there', async () => {
  await run();
  // A new row, and one moved under it at once: where it belongs is known only when the new one is.
  const answer = await fetch(`${boardsAt}/records`, {
    method: 'POST',
    body: new URLSearchParams({ title: 'Orangery', stage: 'planned' }),
    redirect: 'manual',
  });
  const made = String(answer.headers.get('location')).replace('/records/', '');
  await editOnPage(boardsAt, 'R4003', { under: made });
  await erp.pool.query('update job set title = $1 where board_row = $2', ['Agree the footing', 'R4003']);
  await run();
  const row = await fetch(`${boardsAt}/records/R4003`);
  expect(await row.text()).toContain('Agree the footing');
  const job = await jobOf('R4003');
  expect([job.title, job.parent_no]).toEqual(['Agree the footing', (await jobOf(made)).job_no]);
});

test('of two moves that would make a circle one is held, and nothing is written of it', async () => {
  await run();
  await editOnPage(boardsAt, 'R4001', { under: 'R4006' });
  await erp.pool.query('update job set parent_no = $1 where job_no = $2', [
    (await jobOf('R4001')).job_no,
    (await jobOf('R4006')).job_no,
  ]);
  await run();
  const held = (await installation.decisions()).filter(({ kind }) => kind === 'held');
  expect(held).toHaveLength(1);
  expect(held[0]?.says).toContain('it would stand under itself');
  expect([await parentOnBoards('R4001'), await parentOnBoards('R4006')]).toEqual(['R4006', null]);
});

test('more than a guard allows is not made level by level either', async () => {
  const definition = knotOf('projects');
  const members = definition.members.map((member) =>
    member.id === 'erp' ? { ...member, guards: { creates: 5 } } : member,
  );
  const changed = { definition: { ...definition, members }, basedOn: 1, draft: 0, note: '' };
  expect(await installation.parts.knots.change(changed, 'test')).toBe('in force');
  const { state } = await run();
  expect(state).toBe('stopped by a guard');
  // The projects are made; their twelve tasks would be too many.
  expect(await jobs()).toHaveLength(3);
  expect((await installation.decisions()).map(({ kind }) => kind)).toContain('guard');
});
