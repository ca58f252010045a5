/**
 * What the things of a knot have in common is an object of its own: counted and added up as they are now, kept as
 * records of another system, and counted again when something has become of them.
 */
import { mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { filesSystemSchema, type GroupObject, groupsSystemSchema, knotFileSchema } from '@anchor-knot/contracts';
import type { Knot, Raw, SourceRecord } from '@anchor-knot/core';
import { generateCustomers } from '@anchor-knot/standins';
import { dropThingChanges } from '../persistence/tables/thingChanges.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { systemClock } from '../worker/systemClock.js';

const pennant = { pattern: 'bars', colour: 'plum', letters: 'CH' } as const;
const order = (member: string) => ({ steps: [{ step: 'order', members: [member] }] });
const from = (member: string, field: string, steps: object[] = []) => ({
  [member]: { field, direction: 'from', steps },
});
const knotOf = (knot: object): Knot =>
  knotFileSchema.parse({
    format: 'anchor-knot',
    formatVersion: 1,
    knot: { start: 'merge', checks: [], crosswalks: {}, ...knot },
  }).knot;
const key = (field: string) => [{ name: field, fields: [{ field, normalise: 'exact' }] }];
const readOnly = { create: false, update: false };
/** The second one has nothing of it. */
const membersOf = (object: string) => [
  { id: 'van', system: 'van', object, may: readOnly },
  { id: 'shed', system: 'van', object: 'shed', may: readOnly },
];

const places = knotOf({
  ...{ id: 'places', name: 'Places', thing: 'place', titleField: 'name', keyRules: key('code') },
  members: membersOf('places'),
  fields: [
    { id: 'code', name: 'Code', type: 'text', rule: order('van'), mappings: from('van', 'id') },
    { id: 'name', name: 'Name', type: 'text', rule: order('van'), mappings: from('van', 'name') },
  ],
});
const visits = knotOf({
  ...{ id: 'visits', name: 'Visits', thing: 'visit', titleField: 'number', keyRules: key('number') },
  members: membersOf('visits'),
  fields: [
    { id: 'number', name: 'Number', type: 'text', rule: order('van'), mappings: from('van', 'id') },
    { id: 'month', name: 'Month', type: 'text', rule: order('van'), mappings: from('van', 'month') },
    { id: 'hours', name: 'Hours', type: 'number', rule: order('van'), mappings: from('van', 'hours') },
    { id: 'day', name: 'Day', type: 'date', rule: order('van'), mappings: from('van', 'day') },
    { id: 'tools', name: 'Tools', type: 'list', rule: order('van'), mappings: from('van', 'tools') },
    {
      ...{ id: 'place', name: 'Place', type: 'reference', refersTo: 'places', rule: order('van') },
      mappings: from('van', 'place', [{ kind: 'reference', by: { member: 'van' }, notFound: 'blank' }]),
    },
  ],
});
/** A row of the office for each month in which there was a visit, and how much was done in it. */
const months = knotOf({
  ...{ id: 'months', name: 'Months', thing: 'month', titleField: 'month', keyRules: key('month') },
  members: [
    { ...{ id: 'counted', system: 'counted', object: 'months' }, may: readOnly, whenDeleted: 'delete' },
    {
      ...{ id: 'office', system: 'van', object: 'office', startsAnchors: false, required: ['month'] },
      may: { create: true, update: true, delete: true },
    },
  ],
  fields: [
    {
      ...{ id: 'month', name: 'Month', type: 'text', rule: order('counted') },
      mappings: { ...from('counted', 'value'), office: { field: 'month', direction: 'to' } },
    },
    {
      ...{ id: 'hours', name: 'Hours', type: 'number', rule: order('counted') },
      mappings: { ...from('counted', 'hours'), office: { field: 'hours', direction: 'to' } },
    },
  ],
});

const visit = (id: string, more: Record<string, Raw>) => ({
  ...{ id, month: null, hours: null, day: null, tools: [], place: null },
  ...more,
});
const summer: ReturnType<typeof visit>[] = [
  visit('V1', { month: 'June', hours: 0.1, day: '2026-06-02', tools: ['saw', 'level'], place: 'P1' }),
  visit('V2', { month: 'June', hours: 0.2, day: '2026-06-30', tools: ['saw'], place: 'P1' }),
  visit('V3', { month: 'July', hours: 12, day: '2026-07-01', place: 'P2' }),
  visit('V4', {}),
];

let database: TestDatabase;
let installation: RealInstallation;
let folder: string;

const put = (file: string, records: readonly object[]) =>
  writeFile(join(folder, `${file}.jsonl`), records.map((record) => `${JSON.stringify(record)}\n`).join(''));
const office = async (): Promise<object[]> =>
  (await readFile(join(folder, 'office.jsonl'), 'utf8'))
    .split('\n')
    .filter((line) => line !== '')
    .map((line) => JSON.parse(line) as object);
const run = async (knot: string) => {
  const { progress, words, state } = await installation.run('run', { knot, full: true });
  if (state !== 'succeeded') throw new Error(`${state}: ${words}`);
  return progress?.tally;
};

async function connector(object: Omit<GroupObject, 'figures'> & Partial<GroupObject>) {
  const description = groupsSystemSchema.parse({ kind: 'groups', name: 'Counted', objects: { object } });
  await installation.parts.systems.save({ id: 'asked', description, pennant });
  return installation.parts.systems.connect({ system: 'asked', object: 'object' }, systemClock);
}
async function groups(object: Parameters<typeof connector>[0]): Promise<SourceRecord[]> {
  const found: SourceRecord[] = [];
  for await (const page of (await connector(object)).read({})) found.push(...page.records);
  return found.toSorted((one, other) => (one.key < other.key ? -1 : 1));
}

beforeAll(async () => {
  database = await TestDatabase.start();
});
beforeEach(async () => {
  folder = await mkdtemp(join(tmpdir(), 'anchor-knot-groups-'));
  installation = await RealInstallation.start(
    database,
    generateCustomers({ seed: 5, inBoth: 1, onlyCrm: 0, onlyShop: 0, mess: false }),
  );
  const file = (name: string) => ({ path: `${name}.jsonl`, format: 'jsonl', key: 'id' });
  await installation.parts.systems.save({
    id: 'van',
    description: filesSystemSchema.parse({
      ...{ kind: 'files', name: 'Van', folder },
      objects: { places: file('places'), visits: file('visits'), office: file('office'), shed: file('shed') },
    }),
    pennant,
  });
  const hours = { field: 'hours', how: 'total' };
  await installation.parts.systems.save({
    id: 'counted',
    description: groupsSystemSchema.parse({
      ...{ kind: 'groups', name: 'Counted' },
      objects: { months: { of: 'visits', by: 'month', figures: { hours } } },
    }),
    pennant,
  });
  await put(
    'places',
    ['P1', 'P2', 'P3'].map((id) => ({ id, name: `Place ${id}` })),
  );
  await put('visits', summer);
  for (const empty of ['office', 'shed']) await put(empty, []);
  for (const knot of [places, visits, months]) await installation.parts.knots.create(knot, 'test');
  await installation.startWorker();
  for (const knot of ['places', 'visits']) await run(knot);
});
afterEach(async () => {
  await installation.stop();
  await rm(folder, { recursive: true });
});
afterAll(async () => {
  await database.stop();
});

test('a group for each value that things have, with exact sums; of a list, for each of its items', async () => {
  const figures = {
    hours: { field: 'hours', how: 'total' },
    most: { field: 'hours', how: 'greatest' },
    first: { field: 'day', how: 'least' },
  } as const;
  const byMonth = { of: 'visits', by: 'month', figures };
  expect((await groups(byMonth)).map(({ key, fields }) => [key, fields])).toEqual([
    ['July', { value: 'July', count: 1, hours: 12, most: 12, first: '2026-07-01' }],
    ['June', { value: 'June', count: 2, hours: 0.3, most: 0.2, first: '2026-06-02' }],
  ]);
  expect((await groups({ of: 'visits', by: 'tools' })).map(({ fields }) => fields)).toEqual([
    { value: 'level', count: 1 },
    { value: 'saw', count: 2 },
  ]);
  const one = await connector(byMonth);
  expect((await one.readOne('June' as never))?.fields.count).toBe(2);
  expect(await one.readOne('May' as never)).toBeUndefined();
  expect((await one.describe())?.fields.map(({ path, type }) => [path, type])).toEqual([
    ['value', 'text'],
    ['count', 'number'],
    ['hours', 'number'],
    ['most', 'number'],
    ['first', 'date'],
  ]);
});

test('each thing that can be referred to is a group, also an empty one; what is gone counts no more', async () => {
  const byPlace = { of: 'visits', by: 'place', figures: { hours: { field: 'hours', how: 'total' } } } as const;
  const told = async () =>
    (await groups(byPlace))
      .map(({ fields }) => [(fields.thing as { code: string }).code, fields.value, fields.count, fields.hours])
      .sort();
  expect(await told()).toEqual([
    ['P1', 'Place P1', 2, 0.3],
    ['P2', 'Place P2', 1, 12],
    ['P3', 'Place P3', 0, null],
  ]);
  await put('visits', summer.slice(1));
  await put('places', [{ id: 'P1', name: 'Place P1' }]);
  for (const knot of ['places', 'visits']) await run(knot);
  expect(await told()).toEqual([['P1', 'Place P1', 1, 0.2]]);
  const [known] = await groups(byPlace);
  expect(await (await connector(byPlace)).readOne(known?.key as never)).toEqual(known);
});

test('rows are kept for groups: made, written when the sum is another one, taken out when they are empty', async () => {
  await run('months');
  const sorted = async () =>
    (await office())
      .map((row) => ({ ...row, id: '' }))
      .sort((one, other) => (JSON.stringify(one) < JSON.stringify(other) ? -1 : 1));
  expect(await sorted()).toEqual([
    { id: '', month: 'July', hours: 12 },
    { id: '', month: 'June', hours: 0.3 },
  ]);
  await put('visits', [{ ...summer[0], hours: 4 }, { ...summer[1], month: 'August' }, summer[3] as object]);
  await run('visits');
  await run('months');
  expect(await sorted()).toEqual([
    { id: '', month: 'August', hours: 0.2 },
    { id: '', month: 'June', hours: 4 },
  ]);
  expect((await run('months'))?.office).toMatchObject({ create: 0, update: 0, delete: 0, written: 0 });
});

test('they are counted again when something has become of the things, not for a run that found nothing', async () => {
  await run('months');
  const timing = { zone: 'UTC', triggers: { counted: { kind: 'asking', seconds: 86_400 } } } as const;
  await installation.parts.timings.keep(months, 0, timing, 'test', Date.now());
  const runs = async () =>
    (await installation.parts.data.query(
      `select count(*)::int as count from run where knot_id = 'months' and cause = 'release'`,
    )) as { count: number }[];
  const stamp = async () => installation.parts.systems.look({ system: 'counted', object: 'months' });
  const before = await stamp();
  await run('visits');
  expect([await runs(), await stamp()]).toEqual([[{ count: 0 }], before]);
  await put('visits', [...summer, visit('V5', { month: 'May', hours: 1 })]);
  await run('visits');
  expect(await stamp()).not.toEqual(before);
  for (const until = Date.now() + 20_000; (await office()).length < 3 && Date.now() < until;)
    await new Promise((done) => setTimeout(done, 50));
  expect(await office()).toContainEqual(expect.objectContaining({ month: 'May', hours: 1 }));
  expect(await runs()).toEqual([{ count: 1 }]);
  const now = await stamp();
  await dropThingChanges(installation.parts.data, 0);
  expect(await stamp()).toEqual(now);
});

test('a knot or a field that is there no more, and a sum of what are no numbers, are said so', async () => {
  for (const [object, says] of [
    [{ of: 'vists', by: 'month' }, 'there is no knot “vists” in force whose things could be counted'],
    [{ of: 'visits', by: 'mnth' }, 'the knot “Visits” has no shared field “mnth”'],
    [
      { of: 'visits', by: 'month', figures: { days: { field: 'day', how: 'total' } } },
      'Day of the knot “Visits” holds no numbers that could be added up',
    ],
  ] as const)
    await expect(groups(object)).rejects.toThrow(says);
  const asked = await connector({ of: 'visits', by: 'month' });
  expect(await asked.write([{ kind: 'delete', key: 'June' as never, version: undefined }])).toEqual([
    { kind: 'refused', words: 'what is counted here cannot be written' },
  ]);
});
