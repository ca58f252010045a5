/** Runs of what one member told: they read no more than they must, and no record is made twice by what they left. */
import { compileKnot, type Knot, type RecordKey } from '@anchor-knot/core';
import { seededRandom } from '@anchor-knot/standins';
import { InMemoryStore } from '../testing/inMemoryStore.js';
import { SimulatedInstallation } from '../testing/simulation.js';
import { simulationAbilities, simulationKnot } from '../testing/simulationKnot.js';

const members = ['crm', 'shop', 'list'] as const;
type Member = (typeof members)[number];

function begin(knot: Knot = simulationKnot) {
  const store = new InMemoryStore();
  return { store, world: new SimulatedInstallation(knot, store, simulationAbilities) };
}
const emailOf = (customer: number) => `customer${customer}@marram.example`;
function record(world: SimulatedInstallation, member: Member, customer: number) {
  return [...world.system(member).records.values()].find(({ fields }) => fields.email === emailOf(customer));
}
function edit(world: SimulatedInstallation, member: Member, customer: number, field: string, value: string | number) {
  const key = record(world, member, customer)?.key ?? `${member}-${customer}`;
  if (!record(world, member, customer)) world.system(member).edit(key, 'email', emailOf(customer));
  world.system(member).edit(key, field, value);
}
const readsOf = (world: SimulatedInstallation) =>
  new Set(world.faults.calls.filter((call) => call.endsWith('.read')).map((call) => call.split('.')[0]));

test('an edit of one member goes everywhere, and no other is read for it', async () => {
  const { world } = begin();
  edit(world, 'crm', 1, 'name', 'Heron');
  await world.run();
  edit(world, 'crm', 1, 'name', 'Heron & Quince');
  edit(world, 'list', 1, 'limit', 7);
  world.faults.calls.length = 0;
  await world.run({ members: new Set(['crm']) });
  expect(readsOf(world)).toEqual(new Set(['crm']));
  expect(record(world, 'list', 1)?.fields).toMatchObject({ name: 'Heron & Quince' });
  // What was not read is not forgotten: it is read by the run that comes for it.
  await world.run({ members: new Set(['list']) });
  expect(record(world, 'crm', 1)?.fields.limit).toBe(7);
});

test('a newcomer is looked for everywhere before anything is made of it', async () => {
  const { world } = begin();
  edit(world, 'crm', 1, 'name', 'Heron');
  await world.run();
  edit(world, 'shop', 2, 'name', 'Marram');
  edit(world, 'crm', 2, 'name', 'Marram');
  await world.run({ members: new Set(['crm']) });
  for (const member of members) expect(world.system(member).records.size).toBe(2);
});

test('what could only now be made in a member waits until that member is read', async () => {
  const members = simulationKnot.members.map((member) =>
    member.id === 'list' ? { ...member, required: ['limit'] } : member,
  );
  const { world } = begin({ ...simulationKnot, members });
  edit(world, 'crm', 1, 'name', 'Heron');
  await world.run();
  expect(world.system('list').records.size).toBe(0);
  edit(world, 'list', 1, 'limit', 7);
  edit(world, 'crm', 1, 'limit', 7);
  await world.run({ members: new Set(['crm']) });
  expect(world.system('list').records.size).toBe(1);
  await world.run({ members: new Set(['list']) });
  expect(world.system('list').records.size).toBe(1);
  expect(record(world, 'list', 1)?.fields.name).toBe('Heron');
});

test('under a new version what was not read under it is read too: no value is overwritten unseen', async () => {
  const withoutLimit = (field: Knot['fields'][number]) =>
    field.id === 'limit'
      ? { ...field, mappings: Object.fromEntries(Object.entries(field.mappings).filter(([id]) => id !== 'list')) }
      : field;
  const { world } = begin({ ...simulationKnot, fields: simulationKnot.fields.map(withoutLimit) });
  edit(world, 'crm', 1, 'name', 'Heron');
  edit(world, 'crm', 1, 'limit', 5);
  await world.run();
  edit(world, 'list', 1, 'limit', 9);
  await world.run();
  const compiled = compileKnot(simulationKnot);
  if (!compiled.ok) throw new Error('the second version cannot be compiled');
  edit(world, 'crm', 1, 'name', 'Heron & Quince');
  world.faults.calls.length = 0;
  await world.run({ knot: compiled.knot, knotVersion: 2, members: new Set(['crm']) });
  expect(readsOf(world)).toEqual(new Set(members));
  expect(record(world, 'list', 1)?.fields.limit).toBe(9);
});

const callsOf = (world: SimulatedInstallation) =>
  world.faults.calls.map((call) => call.split('.').slice(0, 2).join('.'));
const named = (member: Member, ...keys: string[]) => new Map([[member, keys as RecordKey[]]]);

test('a run of a named record reads that alone; what else changed is read by the run that comes for it', async () => {
  const { world } = begin();
  for (const customer of [1, 2]) edit(world, 'crm', customer, 'limit', customer);
  await world.run();
  for (const customer of [1, 2]) edit(world, 'crm', customer, 'limit', 10 + customer);
  world.faults.calls.length = 0;
  await world.run({ members: new Set(), records: named('crm', 'crm-1') });
  expect(callsOf(world).filter((call) => call.endsWith('.read') || call === 'crm.readOne')).toEqual(['crm.readOne']);
  expect([1, 2].map((customer) => record(world, 'list', customer)?.fields.limit)).toEqual([11, 2]);
  await world.run({ members: new Set(['crm']) });
  expect(record(world, 'list', 2)?.fields.limit).toBe(12);
});

test('a named newcomer is looked for everywhere, and everything there too, before anything is made of it', async () => {
  const { world } = begin();
  edit(world, 'crm', 1, 'name', 'Heron');
  await world.run();
  edit(world, 'crm', 2, 'name', 'Marram');
  edit(world, 'shop', 2, 'name', 'Marram');
  edit(world, 'shop', 3, 'name', 'Quince');
  edit(world, 'crm', 3, 'name', 'Quince');
  edit(world, 'shop', 4, 'name', 'Teasel');
  await world.run({ members: new Set(), records: named('crm', 'crm-2') });
  for (const member of members) expect(world.system(member).records.size).toBe(4);
});

test('nothing is made in a member of which only some records were read', async () => {
  const needing = simulationKnot.members.map((member) =>
    member.id === 'list' ? { ...member, required: ['limit'] } : member,
  );
  const { world } = begin({ ...simulationKnot, members: needing });
  edit(world, 'crm', 1, 'name', 'Heron');
  await world.run();
  edit(world, 'list', 1, 'limit', 7);
  edit(world, 'crm', 1, 'limit', 7);
  const records = new Map([...named('crm', 'crm-1'), ...named('list', 'list-9')]);
  await world.run({ members: new Set(), records });
  expect(world.system('list').records.size).toBe(1);
  await world.run({ members: new Set(['list']) });
  expect(record(world, 'list', 1)?.fields.name).toBe('Heron');
});

test('a named record that is gone is found gone, and one that never was does no harm', async () => {
  const { store, world } = begin();
  for (const customer of [1, 2]) edit(world, 'crm', customer, 'name', `Heron ${customer}`);
  await world.run();
  const [first, second] = [1, 2].map((customer) => record(world, 'crm', customer)?.key as RecordKey);
  for (const key of [first, second]) world.system('crm').records.delete(key as RecordKey);
  await world.run({ members: new Set(), records: named('crm', 'crm-1', 'crm-99') });
  const gone = [...store.state().anchors].flatMap(([, { anchor }]) =>
    anchor.ties.filter((tie) => tie.member === 'crm' && tie.gone).map(({ key }) => key),
  );
  expect(gone).toEqual(['crm-1']);
});

test.each(Array.from({ length: 40 }, (_, index) => index + 1))(
  'whichever members tell of themselves, or of which records, things come out as if all were read (history %i)',
  async (seed) => {
    const random = seededRandom(seed);
    const pick = <Item>(items: readonly Item[]): Item => items[Math.floor(random() * items.length)] as Item;
    const { store, world } = begin();
    for (let step = 0; step < 14; step += 1) {
      const field = pick(['name', 'limit']);
      edit(world, pick(members), Math.floor(random() * 4), field, field === 'limit' ? step : `name ${step}`);
      if (random() < 0.4) await world.run({ members: new Set(members.filter(() => random() < 0.4)) });
      const told = pick(members);
      const keys = [0, 1, 2, 3].filter(() => random() < 0.5).map((customer) => `${told}-${customer}`);
      if (random() < 0.4) await world.run({ members: new Set(), records: named(told, ...keys) });
    }
    await world.run();
    await world.run();
    const before = store.operations.length;
    await world.run();
    expect(store.operations.slice(before)).toEqual([]);
    for (const member of members) {
      const emails = [...world.system(member).records.values()].map(({ fields }) => fields.email);
      expect(new Set(emails).size).toBe(emails.length);
    }
    const held = new Set(store.state().decisions.map(({ anchor, field }) => `${anchor}/${field}`));
    for (const [id, { anchor }] of store.state().anchors) {
      expect(anchor.ties).toHaveLength(members.length);
      const values = anchor.ties.map(({ member, key }) => world.system(member).records.get(key)?.fields.limit);
      if (!held.has(`${id}/limit`)) expect(new Set(values).size).toBe(1);
    }
  },
);
