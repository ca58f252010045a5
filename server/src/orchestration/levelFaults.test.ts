/**
 * Things that stand under each other, with one fault at each read, write and store call in turn: no system is ever told
 * of a thing above that is not there, nothing is made twice, and in the end all stand where they belong.
 */
import type { Raw } from '@anchor-knot/core';
import { treeKnot } from '@anchor-knot/core/testing';
import { type Fault, isStoreFault, SimulatedInstallation } from '../testing/simulation.js';
import { simulationAbilities } from '../testing/simulationKnot.js';
import { InMemoryStore } from '../testing/inMemoryStore.js';
import type { RunOptions } from './installation.js';

const members = ['a', 'b', 'c'] as const;
type Member = (typeof members)[number];
const abilities: Record<string, string> = { a: 'crm', b: 'shop', c: 'list' };

class Tree {
  readonly store = new InMemoryStore();
  /** What was made without an answer is found by its key. */
  readonly world = new SimulatedInstallation(treeKnot('newest'), this.store, (member) => ({
    ...simulationAbilities(abilities[member] as string),
    searchable: ['key'],
  }));
  /** What was told of something that is not there. */
  readonly dangling: Raw[] = [];

  constructor() {
    for (const member of members)
      this.world.system(member).refuses = (fields) => {
        const above = fields.get('parent') ?? null;
        if (above === null || this.world.system(member).records.has(above as never)) return undefined;
        this.dangling.push(above);
        return 'there is no such record';
      };
  }

  put(member: Member, name: string, above?: string): void {
    const key = this.keyOf(member, name) ?? `${member}-${name}`;
    this.world.system(member).edit(key, 'key', name);
    if (above !== undefined)
      this.world.system(member).edit(key, 'parent', this.keyOf(member, above) ?? `${member}-${above}`);
  }

  keyOf(member: Member, name: string): string | undefined {
    return [...this.world.system(member).records.values()].find(({ fields }) => fields.key === name)?.key;
  }

  /** Each thing of a system and the one above it, by their names. */
  shape(member: Member): readonly string[] {
    const { records } = this.world.system(member);
    return [...records.values()]
      .map(({ fields: { key, parent } }) => {
        const above = typeof parent === 'string' ? String(records.get(parent as never)?.fields.key) : 'nothing';
        return `${String(key)} under ${above}`;
      })
      .sort();
  }
}

/** A run with a fault at one of its calls, or none. @returns the calls that it made */
async function runWithFault(
  { world }: Tree,
  at: number | undefined,
  fault: Fault,
  options: Partial<RunOptions>,
): Promise<readonly string[]> {
  Object.assign(world.faults, { count: 0, at, fault });
  world.faults.calls.length = 0;
  await world.run(options).catch((error: unknown) => {
    if (!isStoreFault(error)) throw error;
  });
  const calls = [...world.faults.calls];
  world.faults.at = undefined;
  return calls;
}

/** Four levels that come last first; later a move, a name and a new thing below. The last run has the fault. */
async function play(later: boolean, at: number | undefined, fault: Fault, options: Partial<RunOptions> = {}) {
  const tree = new Tree();
  for (const [name, above] of [['leaf', 'twig'], ['twig', 'branch'], ['branch', 'trunk'], ['trunk']] as const)
    tree.put('a', name, above);
  tree.put('b', 'root');
  if (later) {
    await tree.world.run();
    tree.put('c', 'twig', 'root');
    tree.put('b', 'bud', 'leaf');
    tree.world.system('a').edit(tree.keyOf('a', 'leaf') as string, 'f', 'green');
  }
  const calls = await runWithFault(tree, at, fault, options);
  return { tree, calls };
}

async function expectToStand(tree: Tree, which: keyof typeof shapes, where: string): Promise<void> {
  for (let run = 0; run < 2; run += 1) await tree.world.run();
  const before = tree.store.operations.length;
  await tree.world.run();
  const told = { dangling: tree.dangling, again: tree.store.operations.slice(before) };
  const stands = members.map((member) => tree.shape(member));
  expect({ where, ...told, stands }).toEqual({
    where,
    dangling: [],
    again: [],
    stands: members.map(() => shapes[which]),
  });
  for (const member of members)
    if (which === 'later')
      expect(tree.world.system(member).value(tree.keyOf(member, 'leaf') as string, 'f')).toBe('green');
}

const shapes = {
  first: ['branch under trunk', 'leaf under twig', 'root under nothing', 'trunk under nothing', 'twig under branch'],
  later: [
    'branch under trunk',
    'bud under leaf',
    'leaf under twig',
    'root under nothing',
    'trunk under nothing',
    'twig under root',
  ],
};

describe.each<Fault>(['fails before', 'fails after', 'worker dies before', 'worker dies after'])(
  'when a call %s',
  (fault) => {
    test.each(['first', 'later'] as const)('whichever it is, all stand where they belong: %s run', async (which) => {
      const { calls } = await play(which === 'later', undefined, fault);
      expect(calls.filter((call) => call.endsWith('.write')).length).toBeGreaterThan(4);
      for (let at = 1; at <= calls.length; at += 1) {
        const { tree } = await play(which === 'later', at, fault);
        await expectToStand(tree, which, `${at}, ${calls[at - 1]}`);
      }
    });
  },
);

test.each(['first', 'later'] as const)(
  'another worker takes up a run in the middle of its levels: %s',
  async (which) => {
    const options = { batchSize: 1, run: 'the run that goes on' };
    const { calls } = await play(which === 'later', undefined, 'fails before', options);
    const shared = calls.indexOf('store.openBatches');
    expect(calls.length - shared).toBeGreaterThan(30);
    for (let at = shared + 1; at < calls.length; at += 1) {
      const { tree } = await play(which === 'later', at, 'worker dies after', options);
      await tree.world.run(options);
      await expectToStand(tree, which, `${at}, ${calls[at - 1]}`);
    }
  },
);
