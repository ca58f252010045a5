/** Records are told what became of them elsewhere, whichever call of a run fails. */
import type { Knot, OutcomeFields } from '@anchor-knot/core';
import { type Fault, SimulatedInstallation, WorkerDied } from '../testing/simulation.js';
import { simulationAbilities, simulationKnot } from '../testing/simulationKnot.js';
import { InMemoryStore } from '../testing/inMemoryStore.js';
import { LeaseLost } from './lease.js';

const toldOfShop: OutcomeFields = {
  of: 'shop',
  state: { field: 'state', done: 'done', failed: 'failed', ready: 'ready' },
  words: 'words',
  time: 'told',
  key: 'number',
  link: 'page',
};
const knot: Knot = {
  ...simulationKnot,
  members: simulationKnot.members.map((member) =>
    member.id === 'crm'
      ? { ...member, outcomes: [toldOfShop] }
      : member.id === 'shop'
        ? { ...member, acknowledges: { field: 'booked', lateAfter: 60 } }
        : member,
  ),
};

const emailOf = (customer: number): string => `customer${customer}@marram.example`;

function recordOf(world: SimulatedInstallation, member: string, customer: number) {
  return [...world.system(member).records.values()].find(({ fields }) => fields.email === emailOf(customer));
}

/** The first customer is changed, the second acknowledged, a third is new; a call of that run fails. */
async function play(at: number | undefined, fault: Fault) {
  const store = new InMemoryStore();
  const world = new SimulatedInstallation(knot, store, simulationAbilities);
  for (const customer of [0, 1]) {
    world.system('crm').edit(`crm-${customer}`, 'email', emailOf(customer));
    world.system('crm').edit(`crm-${customer}`, 'name', `customer ${customer}`);
  }
  await world.run();
  const first = world.clock.time;
  world.system('crm').edit('crm-0', 'name', 'another name');
  for (const customer of [0, 1])
    world.system('shop').edit(recordOf(world, 'shop', customer)?.key as string, 'booked', 'yes');
  world.system('crm').edit('crm-2', 'email', emailOf(2));
  world.faults.count = 0;
  world.faults.calls.length = 0;
  world.faults.at = at;
  world.faults.fault = fault;
  await world.run().catch((error: unknown) => {
    const isMeant = error instanceof WorkerDied || error instanceof LeaseLost;
    if (!isMeant && !(error as Error).message.startsWith('the database failed')) throw error;
  });
  world.faults.at = undefined;
  return { store, world, calls: [...world.faults.calls], first };
}

describe.each<Fault>(['fails before', 'fails after', 'worker dies before', 'worker dies after'])(
  'when a call %s',
  (fault) => {
    test('each record is told in the end, with the key over there, and then nothing more is written', async () => {
      const { calls } = await play(undefined, fault);
      for (let at = 1; at <= calls.length; at += 1) {
        const { store, world, first } = await play(at, fault);
        for (let run = 0; run < 2; run += 1) await world.run();
        const before = store.operations.length;
        await world.run();
        const told = [0, 1, 2].map((customer) => {
          const { state, number, page, told: time } = recordOf(world, 'crm', customer)?.fields ?? {};
          const there = recordOf(world, 'shop', customer)?.key as string;
          return [state ?? null, number === there, page === `/shop/${there}`, Date.parse(String(time)) >= first];
        });
        expect({ at: `${at} ${calls[at - 1]}`, told, more: store.operations.length - before }).toEqual({
          at: `${at} ${calls[at - 1]}`,
          told: [
            ['done', true, true, true],
            ['done', true, true, true],
            // It waits until the shop has acknowledged it, and that is not told here.
            [null, false, false, false],
          ],
          more: 0,
        });
        expect(store.state().intents).toEqual([]);
      }
    });
  },
);

test('what a run wrote is told before it ends', async () => {
  const { world, first } = await play(undefined, 'fails before');
  const told = recordOf(world, 'crm', 0)?.fields;
  expect([told?.name, told?.state, Date.parse(String(told?.told)) >= first]).toEqual(['another name', 'done', true]);
});

test('what is to be told counts as updates for a guard, and what is told of writes that passed does not', async () => {
  const store = new InMemoryStore();
  const named = { id: 'named', says: 'it has a name', onFail: 'reject', formula: 'name != null' } as const;
  const guarded: Knot = {
    ...knot,
    checks: [{ ...named, members: ['crm'] }],
    members: knot.members.map(({ acknowledges: _, ...member }) =>
      member.id === 'crm' ? { ...member, guards: { updates: 1 } } : member,
    ),
  };
  const world = new SimulatedInstallation(guarded, store, simulationAbilities);
  const name = (customer: number, value: string | null): void =>
    world.system('crm').edit(`crm-${customer}`, 'name', value);
  for (const customer of [0, 1, 2]) {
    world.system('crm').edit(`crm-${customer}`, 'email', emailOf(customer));
    name(customer, `customer ${customer}`);
  }
  expect(await world.run()).toMatchObject({ result: { state: 'succeeded' } });
  expect([0, 1, 2].map((customer) => recordOf(world, 'crm', customer)?.fields.state)).toEqual(['done', 'done', 'done']);
  name(0, null);
  name(1, null);
  expect(await world.run()).toMatchObject({ result: { state: 'stopped by a guard' } });
  expect(recordOf(world, 'crm', 0)?.fields.state).toBe('done');
  expect(await world.run({ overGuards: true })).toMatchObject({ result: { state: 'succeeded in part' } });
  expect([0, 1, 2].map((customer) => recordOf(world, 'crm', customer)?.fields.state)).toEqual([
    'failed',
    'failed',
    'done',
  ]);
});

test('a record that will not take what it is told becomes a decision', async () => {
  const store = new InMemoryStore();
  const world = new SimulatedInstallation(knot, store, simulationAbilities);
  world.system('crm').edit('crm-0', 'email', emailOf(0));
  world.system('crm').refuses = (fields) => (fields.has('state') ? 'state is locked' : undefined);
  await world.run();
  world.system('shop').edit(recordOf(world, 'shop', 0)?.key as string, 'booked', 'yes');
  await world.run();
  await world.run();
  expect(store.state().decisions.map(({ kind, member, says }) => [kind, member, says])).toEqual([
    [
      'refused',
      'crm',
      'crm refused what it was told of other systems: state is locked. It is tried again when there is something ' +
        'else to tell, or when you ask.',
    ],
  ]);
});
