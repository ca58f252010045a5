/** Shared fields that are computed, the record's own key, and where things began. */
import type { MemberId } from '../record/index.js';
import { World } from '../testing/world.js';
import { compileKnot } from '../definition/compileKnot.js';
import type { Knot, Mapping, SharedField } from '../definition/knot.js';
import { recordKeyPath } from '../definition/knot.js';
import { mapping } from '../testing/mapping.js';
import { tryRecords } from './trial.js';
import { tryCheck } from './tryFormulas.js';

const ask: SharedField['rule'] = { steps: [{ step: 'ask' }] };
const field = (id: string, mappings: Record<MemberId, Mapping>, more: Partial<SharedField> = {}): SharedField => ({
  id,
  name: id,
  type: 'text',
  rule: ask,
  mappings,
  ...more,
});

const people = (more: Partial<Knot> = {}): Knot => ({
  id: 'people',
  name: 'People',
  thing: 'person',
  titleField: 'fullName',
  start: 'merge',
  members: ['crm', 'shop', 'erp'].map((id) => ({
    id,
    system: id,
    object: 'people',
    may: { create: id !== 'crm', update: true },
    startsAnchors: true,
    required: [],
    guards: {},
    ...(id === 'erp' ? { onlyFrom: ['crm'] } : {}),
  })),
  fields: [
    // The long name comes first here, and is computed last all the same.
    field('greeting', { shop: mapping('greeting', 'to') }, { formula: '"Dear " + fullName' }),
    field(
      'fullName',
      { shop: mapping('name', 'to', [{ kind: 'cut', length: 12 }]), erp: mapping('name', 'to') },
      { formula: 'given + " " + family' },
    ),
    field('given', { crm: mapping('given'), shop: mapping('name', 'from', [{ kind: 'personName', part: 'given' }]) }),
    field('family', {
      crm: mapping('family'),
      shop: mapping('name', 'from', [{ kind: 'personName', part: 'family' }]),
    }),
    field('email', { crm: mapping('email'), shop: mapping('email'), erp: mapping('email') }),
    field('crmKey', {
      crm: mapping(recordKeyPath, 'from'),
      shop: mapping('crm', 'to', [{ kind: 'link', address: 'https://crm.example/{key}' }]),
    }),
  ],
  keyRules: [{ name: 'Email', fields: [{ field: 'email', normalise: 'email' }] }],
  checks: [],
  crosswalks: {},
  ...more,
});

const add = (world: World, member: MemberId, key: string, fields: Record<string, string>): void => {
  for (const [path, value] of Object.entries(fields)) world.edit(member, key, path, value);
};

test('a computed field follows what it names, and is written like any other value', async () => {
  const world = new World(people());
  add(world, 'crm', 'A1', { given: 'Ada', family: 'Lovelace', email: 'ada@x.example' });
  await world.run();
  const [shop] = world.of('shop').values();
  expect(shop?.fields).toMatchObject({ name: 'Ada Lovelace', greeting: 'Dear Ada Lovelace' });
  world.edit('crm', 'A1', 'family', 'King-Noel');
  await world.run();
  expect(world.value('shop', shop?.key as string, 'name')).toBe('Ada King-Noe');
  expect(world.value('shop', shop?.key as string, 'greeting')).toBe('Dear Ada King-Noel');
  expect((await world.run()).operations).toEqual([]);
});

test(
  'a part that is edited within the whole goes back to where the parts are kept, and nothing is put ' + 'back over it',
  async () => {
    const world = new World(people());
    add(world, 'crm', 'A1', { given: 'Ada', family: 'Noel', email: 'ada@x.example' });
    await world.run();
    const [shop] = world.of('shop').values();
    world.edit('shop', shop?.key as string, 'name', 'Augusta Noel');
    await world.run();
    expect(world.value('crm', 'A1', 'given')).toBe('Augusta');
    expect(world.value('shop', shop?.key as string, 'name')).toBe('Augusta Noel');
  },
);

test('one system shows the key, or the link, that another one has for the record', async () => {
  const world = new World(people());
  add(world, 'crm', 'A/1', { given: 'Ada', family: 'Noel', email: 'ada@x.example' });
  await world.run();
  expect([...world.of('shop').values()][0]?.fields.crm).toBe('https://crm.example/A%2F1');
});

test('a member is given only what began in certain members', async () => {
  const world = new World(people());
  add(world, 'crm', 'A1', { given: 'Ada', family: 'Noel', email: 'ada@x.example' });
  add(world, 'shop', '7', { name: 'Grace Hopper', email: 'grace@x.example' });
  await world.run();
  await world.run();
  expect([...world.of('erp').values()].map(({ fields }) => fields.email)).toEqual(['ada@x.example']);
});

test('a formula that fails on one thing leaves its field alone and says why', async () => {
  const knot = people();
  const broken = {
    ...knot,
    fields: knot.fields.map((one) => (one.id === 'greeting' ? { ...one, formula: 'number(family)' } : one)),
  };
  const world = new World(broken);
  add(world, 'crm', 'A1', { given: 'Ada', family: 'Noel', email: 'ada@x.example' });
  const { problems } = await world.run();
  expect([...world.of('shop').values()][0]?.fields).toMatchObject({ name: 'Ada Noel' });
  expect([...world.of('shop').values()][0]?.fields.greeting).toBeUndefined();
  expect(problems.map(({ reason }) => reason).join()).toContain('“Noel” is not a number');
});

test.each<[string, Knot, string, string]>([
  [
    'a field that depends on itself',
    people({
      titleField: 'email',
      fields: [
        ...people().fields.slice(2),
        field('a', {}, { formula: 'b + "x"' }),
        field('b', {}, { formula: 'a + "b"' }),
      ],
    }),
    'fields.a.formula',
    'it depends on itself: a, b, a',
  ],
  [
    'a formula that names what has gone',
    people({ fields: [...people().fields, field('a', {}, { formula: 'gone + 1' })] }),
    'fields.a.formula',
    'gone',
  ],
  [
    'a computed key',
    people({ keyRules: [{ name: 'Name', fields: [{ field: 'fullName', normalise: 'text' }] }] }),
    'keyRules.Name',
    'is computed',
  ],
  [
    'a computed field that a member would give',
    people({ fields: [...people().fields, field('a', { crm: mapping('a') }, { formula: 'given' })] }),
    'fields.a.mappings.crm',
    'direction to',
  ],
  [
    'a key that would be written',
    people({ fields: [...people().fields, field('a', { crm: mapping(recordKeyPath) })] }),
    'fields.a.mappings.crm',
    'can only be read',
  ],
])('%s is told at its place', (_, knot, at, words) => {
  const compiled = compileKnot(knot);
  const problem = compiled.ok ? undefined : compiled.problems.find((one) => one.at === at);
  expect(problem?.says).toContain(words);
});

test('a text in a formula is no name', () => {
  const compiled = compileKnot(
    people({ fields: [...people().fields, field('a', {}, { formula: `"a" + 'a' + given` })] }),
  );
  expect(compiled.ok).toBe(true);
});

test('tried on records that are the same thing, a computed field has its value, and a check sees it', () => {
  const records = {
    crm: { given: 'Ada', family: 'Noel', email: 'a@x.example', [recordKeyPath]: 'A1' },
    shop: { name: 'A. Noel', email: 'a@x.example', crm: null },
  };
  const trial = tryRecords(people(), records);
  expect(trial.shared).toMatchObject({ given: 'Ada', fullName: 'Ada Noel', greeting: 'Dear Ada Noel', crmKey: 'A1' });
  expect(trial.cells.fullName?.shop?.written).toEqual({ ok: true, value: 'Ada Noel' });
  expect(trial.cells.crmKey?.shop?.written).toEqual({ ok: true, value: 'https://crm.example/A1' });
  const failing = tryRecords(
    { ...people(), fields: [...people().fields, field('n', {}, { formula: 'number(given)' })] },
    records,
  );
  expect(failing.failed).toEqual({ n: expect.stringContaining('“Ada” is not a number') as string });
  const checked = tryCheck(
    people(),
    { id: 'long', formula: 'length(fullName) > 7', says: 'too short', onFail: 'reject' },
    'crm',
    [records.crm, { ...records.crm, family: 'L' }],
  );
  expect(checked.ok && checked.value.passes).toEqual([true, false]);
});
