/** The laws of the engine over the whole orchestration: one fault at each read, write and store call in turn. */
import { compileKnot, type Knot, type RecordKey } from '@anchor-knot/core';
import { seededRandom } from '@anchor-knot/standins';
import { type Fault, isStoreFault, SimulatedInstallation } from '../testing/simulation.js';
import { simulationAbilities, simulationKnot } from '../testing/simulationKnot.js';
import { InMemoryStore } from '../testing/inMemoryStore.js';
import type { RunEnd } from './runKnot.js';
import type { RunResult } from './runResult.js';
import { LeaseLost } from './lease.js';

const members = ['crm', 'shop', 'list'] as const;
const names = ['Osprey Nursery', 'Saltpan Growers', 'Marram', 'Heron & Quince', 'Foxglove Academy'];

interface Edit {
  readonly member: (typeof members)[number];
  readonly customer: number;
  readonly field: 'name' | 'limit';
  readonly value: string | number;
}

/** A history is decided by its seed alone. Every value is given once, so that each edit can be followed. */
function history(seed: number): Record<'before' | 'after' | 'during', readonly Edit[]> {
  const random = seededRandom(seed);
  let serial = 0;
  const edit = (): Edit => {
    const field = random() < 0.6 ? 'name' : 'limit';
    serial += 1;
    return {
      member: members[Math.floor(random() * 3)] as Edit['member'],
      customer: Math.floor(random() * 4),
      field,
      value: field === 'name' ? `${serial} ${names[Math.floor(random() * names.length)] as string}` : serial,
    };
  };
  return {
    before: Array.from({ length: 8 }, edit),
    after: Array.from({ length: 4 }, edit),
    // Elsewhere an edit can fall between our looking and our writing, where nothing tells.
    during: Array.from({ length: 4 }, () => ({ ...edit(), member: 'crm' as const })),
  };
}

const emailOf = (customer: number): string => `customer${customer}@marram.example`;

function isThere(world: SimulatedInstallation, { member, customer }: Edit): boolean {
  return [...world.system(member).records.values()].some(({ fields }) => fields.email === emailOf(customer));
}

function apply(world: SimulatedInstallation, { member, customer, field, value }: Edit): void {
  const system = world.system(member);
  const email = emailOf(customer);
  const key = [...system.records.values()].find(({ fields }) => fields.email === email)?.key ?? `${member}-${customer}`;
  if (!system.records.has(key as never)) system.edit(key, 'email', email);
  system.edit(key, field, value);
}

/** A run with a fault at one of its calls, or none. Gives the calls that it made. */
async function runWithFault(
  world: SimulatedInstallation,
  at: number | undefined,
  fault: Fault,
  run: () => Promise<unknown> = () => world.run(),
): Promise<string[]> {
  world.faults.count = 0;
  world.faults.calls.length = 0;
  world.faults.at = at;
  world.faults.fault = fault;
  await run().catch((error: unknown) => {
    if (!isStoreFault(error)) throw error;
  });
  const calls = [...world.faults.calls];
  world.faults.at = undefined;
  return calls;
}

/** Plays a history with one fault at one call of the second run. Gives the calls of that run when no fault is set. */
async function play(seed: number, at: number | undefined, fault: Fault) {
  const store = new InMemoryStore();
  const world = new SimulatedInstallation(simulationKnot, store, simulationAbilities);
  const { before, after } = history(seed);
  for (const edit of before) apply(world, edit);
  await world.run();
  for (const edit of after) apply(world, edit);
  const calls = await runWithFault(world, at, fault);
  return { store, world, calls };
}

async function checkLaws(
  { store, world }: Pick<Awaited<ReturnType<typeof play>>, 'store' | 'world'>,
  seed: number,
  edits: readonly Edit[] = history(seed).after,
): Promise<void> {
  await world.run();
  await world.run();
  const operationsBefore = store.operations.length;
  const end = await world.run();
  // Quiet.
  expect(end).toMatchObject({ kind: 'ended', result: { state: 'succeeded' } });
  expect(store.operations.slice(operationsBefore)).toEqual([]);
  // One record per customer in each system: nothing is created twice, nothing is missing.
  for (const member of members) {
    const emails = [...world.system(member).records.values()].map(({ fields }) => fields.email);
    expect(new Set(emails).size).toBe(emails.length);
  }
  const { anchors, intents, decisions } = store.state();
  expect(intents).toEqual([]);
  const held = new Set(
    decisions.filter(({ kind }) => kind === 'held').map(({ anchor, field }) => `${anchor}/${field}`),
  );
  for (const [id, { anchor }] of anchors) {
    expect(anchor.ties.map(({ member }) => member).sort()).toEqual([...members].sort());
    for (const tie of anchor.ties) {
      const record = world.system(tie.member as 'crm').records.get(tie.key);
      for (const field of world.knot.fields) {
        const agreed = anchor.agreed[field.id];
        if (!agreed || held.has(`${id}/${field.id}`)) continue;
        // Converge: every value means the agreed one.
        expect(field.mappings.get(tie.member)?.lens.means(record?.fields[field.id], agreed.value)).toBe(true);
      }
    }
  }
  // No lost edit: the last value that somebody gave in each place is agreed, or was; is lost with a trace, held, or was
  // overwritten by a later edit there.
  for (const [index, edit] of edits.entries()) {
    if (
      edits
        .slice(index + 1)
        .some((later) => later.member === edit.member && later.customer === edit.customer && later.field === edit.field)
    )
      continue;
    const anchor = anchors.find(
      ([, { anchor: one }]) => one.agreed.email?.value === `customer${edit.customer}@marram.example`,
    )?.[1].anchor;
    const value = String(edit.value);
    const shadow = (other: unknown) =>
      edit.member === 'shop' &&
      edit.field === 'name' &&
      typeof other === 'string' &&
      other.startsWith(value.slice(0, 6).trim());
    const agreed = anchor?.agreed[edit.field]?.value;
    const known = agreed === value || shadow(agreed) || shadowOf(value, agreed);
    const lost = store.journal.some(
      (row) => row.kind === 'lost' && row.field === edit.field && row.anchor === anchor?.id && row.meaning === value,
    );
    const isHeld = held.has(`${anchor?.id}/${edit.field}`);
    // It was agreed and written elsewhere, before somebody who could see it gave another value.
    const wasTold = store.journal.some(
      ({ kind, field, anchor: of, meaning }) =>
        kind === 'update' && field === edit.field && of === anchor?.id && meaning === value,
    );
    expect({ edit, kept: known || lost || isHeld || wasTold }).toMatchObject({ kept: true });
  }
}

/** An edit in the shop keeps the tail that the shop cannot show. */
function shadowOf(value: string, agreed: unknown): boolean {
  return typeof agreed === 'string' && agreed.startsWith(value);
}

const seeds = Array.from({ length: Number(process.env.SIMULATION_SEEDS ?? 4) }, (_, index) => index + 1);

describe.each<Fault>(['fails before', 'fails after', 'worker dies before', 'worker dies after'])(
  'when a call %s',
  (fault) => {
    test.each(seeds)('the laws hold whichever call it is (history %i)', async (seed) => {
      const { calls } = await play(seed, undefined, fault);
      expect(calls.length).toBeGreaterThan(40);
      for (let at = 1; at <= calls.length; at += 1) {
        try {
          await checkLaws(await play(seed, at, fault), seed);
        } catch (error) {
          throw new Error(`history ${seed}, ${fault} at call ${at}, ${calls[at - 1]}: ${(error as Error).message}`, {
            cause: error,
          });
        }
      }
    });
  },
);

/**
 * The same history, with the second run shared by several workers in parts of one anchor each, while somebody edits
 * records.
 */
async function playTogether(seed: number, workers: number, at: number | undefined, fault: Fault) {
  const store = new InMemoryStore();
  const world = new SimulatedInstallation(simulationKnot, store, simulationAbilities);
  const { before, after, during } = history(seed);
  for (const edit of before) apply(world, edit);
  await world.run();
  for (const edit of after) apply(world, edit);
  const random = seededRandom(seed * 100 + workers);
  const waiting = [...during];
  const made: Edit[] = [];
  world.faults.turns = () => {
    // The first while records are read, the others while they are planned and written.
    const [next] = waiting;
    if (next && world.faults.calls.length >= 14 + 18 * (during.length - waiting.length)) {
      waiting.shift();
      // Who makes a record while we are about to make one of the same thing makes two: no key rule can prevent that.
      if (isThere(world, next)) {
        made.push(next);
        apply(world, next);
      }
    }
    return Math.floor(random() * 12);
  };
  // A lease so short that parts are taken from workers that are slow.
  const options = { batchSize: 1, leaseMs: 400, run: 'the run of several' };
  let end: RunEnd | undefined;
  const calls = await runWithFault(world, at, fault, async () => {
    end = await world.runTogether(workers - 1, options);
  });
  const wasShared = calls.includes('store.openBatches') && calls.at(-1) !== 'store.endRun';
  // Where the worker that drove it has died, another one goes on.
  if (!end && wasShared) end = await world.runTogether(workers - 1, options);
  world.faults.turns = () => 0;
  return { store, world, calls, end, edits: [...after, ...made] };
}

test.each<[number, Fault]>([
  [2, 'worker dies before'],
  [2, 'worker dies after'],
  [3, 'worker dies before'],
  [3, 'worker dies after'],
  [5, 'worker dies after'],
  [3, 'fails before'],
  [5, 'fails after'],
])(
  'the laws hold for %i workers on one run, whichever call %s',
  async (workers, fault) => {
    for (const seed of seeds.slice(0, Number(process.env.TOGETHER_SEEDS ?? 2))) {
      const { calls } = await playTogether(seed, workers, undefined, fault);
      expect(calls.filter((name) => name === 'store.endBatch').length).toBeGreaterThan(3);
      for (let at = 1; at <= calls.length; at += 1) {
        try {
          const played = await playTogether(seed, workers, at, fault);
          // What a worker left behind is concluded within the run.
          if (fault.startsWith('worker dies') && played.end?.kind === 'ended')
            expect(played.store.state().intents).toEqual([]);
          await checkLaws(played, seed, played.edits);
        } catch (error) {
          throw new Error(`history ${seed}, ${fault} at call ${at}, ${calls[at - 1]}: ${(error as Error).message}`, {
            cause: error,
          });
        }
      }
    }
  },
  300_000,
);

test('a run that another worker takes up ends as if nobody had died, and knows as much afterwards', async () => {
  const options = { batchSize: 1, run: 'the run that goes on' };
  const playUpTo = async (at: number | undefined, fault: Fault) => {
    const store = new InMemoryStore();
    const world = new SimulatedInstallation(simulationKnot, store, simulationAbilities);
    for (const edit of history(2).before) apply(world, edit);
    const calls = await runWithFault(world, at, fault, () => world.run(options));
    if (store.results.length === 0) await world.run(options);
    const [result] = store.results;
    const { state, words, readWell, tryAgain, progress } = result as RunResult;
    return { calls, end: { state, words, readWell, tryAgain, tally: progress.tally, cursors: await store.cursors() } };
  };
  const { calls, end } = await playUpTo(undefined, 'fails before');
  const shared = calls.indexOf('store.openBatches') + 1;
  expect(calls.length - shared).toBeGreaterThan(30);
  for (const fault of ['worker dies before', 'worker dies after'] as const)
    for (let at = shared + 1; at < calls.length; at += 1)
      expect({ at, call: calls[at - 1], ...(await playUpTo(at, fault)).end }).toEqual({
        at,
        call: calls[at - 1],
        ...end,
      });
});

/** One customer is deleted in the list; another one too, but edited in the shop at the same time. */
async function playDeletion(follows: 'archive' | 'delete', at: number | undefined, fault: Fault) {
  const store = new InMemoryStore();
  const knot: Knot = {
    ...simulationKnot,
    members: simulationKnot.members.map((member) => ({
      ...member,
      may: { create: true, update: true, archive: true, delete: true },
      ...(member.id === 'list' ? { whenDeleted: follows } : {}),
    })),
  };
  const world = new SimulatedInstallation(knot, store, simulationAbilities);
  for (const customer of [0, 1, 2])
    apply(world, { member: 'list', customer, field: 'name', value: `customer ${customer}` });
  await world.run();
  const keyOf = (member: string, customer: number) =>
    [...world.system(member).records.values()].find(
      ({ fields }) => fields.email === `customer${customer}@marram.example`,
    )?.key as RecordKey;
  const shopKey = keyOf('shop', 1);
  for (const customer of [0, 1]) world.system('list').records.delete(keyOf('list', customer));
  world.system('shop').edit(shopKey, 'limit', 7);
  const calls = await runWithFault(world, at, fault);
  return { store, world, calls, keyOf };
}

describe.each<Fault>(['fails before', 'fails after', 'worker dies before', 'worker dies after'])(
  'when a call %s',
  (fault) => {
    test.each(['archive', 'delete'] as const)(
      'a deletion has the others %sd once, and an edit at the same time asks, whichever call it is',
      async (follows) => {
        const { calls } = await playDeletion(follows, undefined, fault);
        for (let at = 1; at <= calls.length; at += 1) {
          const { store, world, keyOf } = await playDeletion(follows, at, fault);
          for (let run = 0; run < 3; run += 1) await world.run();
          const before = store.operations.length;
          await world.run();
          const state = (member: string, customer: number) => {
            const record = world.system(member).records.get(keyOf(member, customer));
            return record === undefined ? 'gone' : record.fields.archived === true ? 'archived' : 'there';
          };
          const removed = follows === 'archive' ? 'archived' : 'gone';
          const asked = store.state().decisions.filter(({ kind }) => kind === 'deleted elsewhere').length;
          expect({
            at: `${at} ${calls[at - 1]}`,
            first: ['crm', 'shop', 'list'].map((member) => state(member, 0)),
            // The fault may have let the deletion be noticed before the edit.
            second: asked === 1 ? ['crm', 'shop'].map((member) => state(member, 1)) : 'settled',
            third: ['crm', 'shop', 'list'].map((member) => state(member, 2)),
            more: store.operations.length - before,
            intents: store.state().intents,
          }).toEqual({
            at: `${at} ${calls[at - 1]}`,
            first: [removed, removed, 'gone'],
            second: asked === 1 ? ['there', 'there'] : 'settled',
            third: ['there', 'there', 'there'],
            more: 0,
            intents: [],
          });
        }
        const { store, world } = await playDeletion(follows, undefined, fault);
        await world.run();
        expect(store.state().decisions.filter(({ kind }) => kind === 'deleted elsewhere')).toHaveLength(1);
      },
    );
  },
);

const limitIn = (world: SimulatedInstallation, member: string, customer: number) =>
  [...world.system(member).records.values()].find(({ fields }) => fields.email === `customer${customer}@marram.example`)
    ?.fields.limit;

/** A limit that must be unique in the shop is given to two customers, and later to one of them again. */
async function playRepeated(at: number | undefined, fault: Fault) {
  const store = new InMemoryStore();
  const knot: Knot = {
    ...simulationKnot,
    checks: [{ id: 'once', unique: 'limit', says: 'a limit twice', onFail: 'reject', members: ['shop'] }],
  };
  const world = new SimulatedInstallation(knot, store, simulationAbilities);
  for (const customer of [0, 1, 2]) {
    apply(world, { member: 'shop', customer, field: 'name', value: `shop ${customer}` });
    apply(world, { member: 'shop', customer, field: 'limit', value: customer });
  }
  await world.run();
  apply(world, { member: 'shop', customer: 1, field: 'limit', value: 2 });
  const calls = await runWithFault(world, at, fault);
  const rejected = () =>
    store
      .state()
      .anchors.flatMap(([, { anchor }]) =>
        anchor.ties.filter((tie) => tie.rejected).map((tie) => `${tie.member}/${tie.key}`),
      )
      .sort();
  return { world, calls, rejected };
}

test.each<Fault>(['fails before', 'fails after', 'worker dies before', 'worker dies after'])(
  'values that must be unique are found whichever call %s, and forgotten when they are not repeated any more',
  async (fault) => {
    const { calls } = await playRepeated(undefined, fault);
    expect(calls.length).toBeGreaterThan(20);
    for (let at = 1; at <= calls.length; at += 1) {
      const { world, rejected } = await playRepeated(at, fault);
      await world.run();
      // The one that was edited, and the one that was not.
      expect({ at: calls[at - 1], rejected: rejected() }).toEqual({
        at: calls[at - 1],
        rejected: ['shop/shop-1', 'shop/shop-2'],
      });
      world.system('shop').edit('shop-1', 'limit', 7);
      await world.run();
      await world.run();
      expect({ at: calls[at - 1], rejected: rejected(), limit: limitIn(world, 'crm', 1) }).toEqual({
        at: calls[at - 1],
        rejected: [],
        limit: 7,
      });
    }
  },
);

/** Names weigh, and nothing else: the same name is 18 bits, and the prior -8. */
const weighed: Knot = {
  ...simulationKnot,
  keyRules: [],
  members: simulationKnot.members.map((member) => ({ ...member, may: { create: false, update: true } })),
  evidence: {
    fields: [{ name: 'Name', fields: ['name'], compare: 'text' }],
    thresholds: { upper: 5, lower: -2 },
    weights: {
      prior: 1 / 257,
      fields: [{ m: [0.001, 0.1, 0.3, 0.6], u: [0.99, 0.0004, 0.0012, 2.3e-6], common: {}, rare: -1870 }],
    },
  },
};

/**
 * Three members know two things by their names; later a third comes in two of them, and a second record of the first in
 * one.
 */
async function playEvidence(at: number | undefined, fault: Fault) {
  const store = new InMemoryStore();
  const world = new SimulatedInstallation(weighed, store, simulationAbilities);
  for (const member of members)
    for (const name of ['Osprey', 'Saltpan']) world.system(member).edit(`${member}-${name}`, 'name', name);
  await world.run();
  world.system('list').edit('list-Marram', 'name', 'Marram');
  world.system('crm').edit('crm-Marram', 'name', 'Marram');
  world.system('list').edit('list-Osprey2', 'name', 'Osprey');
  const calls = await runWithFault(world, at, fault);
  const together = () =>
    store
      .state()
      .anchors.map(([, { anchor }]) => anchor.ties.map(({ key }) => key as string).sort())
      .filter((keys) => keys.length > 1)
      .sort();
  return { store, world, calls, together };
}

test.each<Fault>(['fails before', 'fails after', 'worker dies before', 'worker dies after'])(
  'what evidence ties is tied once, with what was known before as with what is new, and a duplicate ' +
    'waits, whichever call %s',
  async (fault) => {
    const { calls } = await playEvidence(undefined, fault);
    expect(calls).toContain('store.evidenceCandidates');
    for (let at = 1; at <= calls.length; at += 1) {
      const { store, world, together } = await playEvidence(at, fault);
      await world.run();
      const doubts = store.state().decisions.map(({ kind, key }) => `${kind} ${key}`);
      expect({ at: calls[at - 1], together: together(), doubts }).toEqual({
        at: calls[at - 1],
        together: [
          ['crm-Marram', 'list-Marram'],
          ['crm-Osprey', 'list-Osprey', 'shop-Osprey'],
          ['crm-Saltpan', 'list-Saltpan', 'shop-Saltpan'],
        ],
        doubts: ['duplicate list-Osprey2'],
      });
    }
  },
);

test('what is tied is found by new evidence from the first run of a new definition on', async () => {
  const store = new InMemoryStore();
  const world = new SimulatedInstallation(
    { ...weighed, evidence: undefined, keyRules: simulationKnot.keyRules },
    store,
    simulationAbilities,
  );
  world.system('crm').edit('crm-1', 'name', 'Osprey');
  await world.run();
  world.system('shop').edit('shop-1', 'name', 'Osprey');
  const compiled = compileKnot(weighed);
  if (!compiled.ok) throw new Error('the knot is wrong');
  await world.run({ knot: compiled.knot, knotVersion: 2 });
  expect(store.state().anchors.map(([, { anchor }]) => anchor.ties.map(({ key }) => key))).toEqual([
    ['crm-1', 'shop-1'],
  ]);
  // The rule that it was tied by stands in the journal.
  expect(store.journal.filter(({ kind }) => kind === 'tied').map(({ key, cause }) => [key, cause])).toEqual([
    ['shop-1', { kind: 'evidence', with: { member: 'crm', key: 'crm-1' }, bits: expect.any(Number) as number }],
  ]);
});

test('a record keeps its tie when what it was tied by changes', async () => {
  const { store, world } = await playEvidence(undefined, 'fails before');
  world.system('shop').edit('shop-Osprey', 'name', 'Quite another');
  await world.run();
  await world.run();
  const { anchors } = store.state();
  expect(
    anchors.find(([, { anchor }]) => anchor.ties.some(({ key }) => key === 'shop-Osprey'))?.[1].anchor.ties,
  ).toHaveLength(3);
});

test('two workers cannot run one knot at once, and a worker that was presumed dead cannot write any more', async () => {
  const store = new InMemoryStore();
  const world = new SimulatedInstallation(simulationKnot, store, simulationAbilities);
  const request = {
    run: 'r1',
    knot: 'customers',
    knotVersion: 1,
    kind: 'run',
    startedBy: 'x',
    now: 0,
    leaseMs: 1000,
  } as const;
  const first = await store.beginRun(request);
  expect(await store.beginRun({ ...request, run: 'r2', now: 999 })).toBeUndefined();
  expect(await world.run({ leaseMs: 1000 })).toMatchObject({ kind: 'ended' });
  await expect(store.commitMerge(first as never, [], [], [])).rejects.toThrow(LeaseLost);
});

test('a run of a knot in which nothing may begin says so, and only where records are left', async () => {
  const startsAnchors = false;
  const knot: Knot = { ...simulationKnot, members: simulationKnot.members.map((one) => ({ ...one, startsAnchors })) };
  const said = async (world: SimulatedInstallation, kind: 'dry run' | 'run') => {
    const outcome = await world.run({ kind });
    return outcome.kind === 'ended' ? (outcome.result.words ?? outcome.result.state) : outcome.kind;
  };
  const world = new SimulatedInstallation(knot, new InMemoryStore(), simulationAbilities);
  expect(await said(world, 'dry run')).toBe('succeeded');
  apply(world, { member: 'crm', customer: 0, field: 'name', value: 'Osprey Nursery' });
  apply(world, { member: 'shop', customer: 0, field: 'name', value: 'Osprey' });
  for (const kind of ['dry run', 'run'] as const)
    expect(await said(world, kind)).toBe(
      '2 records are tied to nothing and left so: no member may start a new customer',
    );
  const usual = new SimulatedInstallation(simulationKnot, new InMemoryStore(), simulationAbilities);
  apply(usual, { member: 'crm', customer: 0, field: 'name', value: 'Osprey Nursery' });
  expect(await said(usual, 'dry run')).toBe('succeeded');
});
