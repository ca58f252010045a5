/**
 * The laws of things that stand under each other: one knot whose things refer to things of the same knot, with records
 * made under others that come later or never, moved on several sides at once, also under what stands under them,
 * deleted, and writes that fail. `LAW_RUNS` says how many histories.
 */
import fc from 'fast-check';
import { compileKnot, type Knot, type Mapping } from './definition/index.js';
import { type KnownName, Levels, LookUps } from './mapping/index.js';
import { type AnchorId, anchorId } from './record/index.js';
import { howMany } from './testing/howMany.js';
import type { WriteFate } from './testing/played.js';
import { smallKnot } from './testing/smallKnot.js';
import { type RunOutcome, World } from './testing/world.js';

const runs = howMany(process.env.LAW_RUNS, 400);
const members = ['a', 'b', 'c'] as const;
type MemberName = (typeof members)[number];

function definitionOf(rule: 'ask' | 'order' | 'newest'): Knot {
  const order = { step: 'order', members: [...members] } as const;
  const knot = smallKnot({
    members: members.length,
    rule: { steps: rule === 'ask' ? [{ step: 'ask' }] : rule === 'newest' ? [{ step: 'newest' }, order] : [order] },
  });
  const [key, field] = knot.fields;
  if (!key || !field) throw new Error('the small knot has no fields');
  const mappings = members.map((member): [string, Mapping] => {
    const known = field.mappings[member] as Mapping;
    return [member, { ...known, field: 'parent', steps: [{ kind: 'reference', by: { member } }] }];
  });
  const parent = { ...field, id: 'parent', name: 'Parent', type: 'reference', refersTo: 'tree', levels: true } as const;
  return { ...knot, id: 'tree', name: 'Tree', fields: [key, { ...parent, mappings: Object.fromEntries(mappings) }] };
}

class Tree {
  readonly world: World;

  constructor(rule: 'ask' | 'order' | 'newest') {
    this.world = new World(definitionOf(rule), () => new LookUps(this.names()));
  }

  names(): KnownName[] {
    return [...this.world.anchors.values()].flatMap((anchor) =>
      anchor.ties.map((tie): KnownName => ({
        knot: 'tree',
        by: { member: tie.member },
        value: tie.key,
        anchor: anchor.id,
        isGone: tie.gone,
      })),
    );
  }

  async run(fates: readonly WriteFate[] = []): Promise<RunOutcome> {
    let write = 0;
    const outcome = await this.world.run({ fate: () => fates[(write += 1) % Math.max(1, fates.length)] ?? 'ok' });
    this.#holdsOrder(outcome);
    return outcome;
  }

  /** Ordered: what was written stands under something that was there before. */
  #holdsOrder({ operations }: RunOutcome): void {
    const there = this.names();
    for (const { kind, member, changes } of operations) {
      if (kind !== 'create' && kind !== 'update') continue;
      const above = changes.find(({ path }) => path === 'parent')?.after;
      if (above === undefined || above === null) continue;
      const named = there.filter((name) => name.value === above && !name.isGone);
      expect([member, above, named.length > 0]).toEqual([member, above, true]);
    }
  }

  /** What stands above each thing, as it is agreed. */
  get above(): ReadonlyMap<AnchorId, AnchorId> {
    return new Map(
      [...this.world.anchors.values()].flatMap(({ id, agreed }) => {
        const above = agreed.parent?.value;
        return typeof above === 'string' ? [[id, anchorId(above)] as const] : [];
      }),
    );
  }
}

function circlesIn(above: ReadonlyMap<AnchorId, AnchorId>): readonly AnchorId[] {
  return [...above.keys()].filter((thing) => {
    let at = above.get(thing);
    for (let steps = 0; at !== undefined && steps <= above.size; steps += 1) {
      if (at === thing) return true;
      at = above.get(at);
    }
    return false;
  });
}

const record = fc.constantFrom('1', '2', '3', '4');
const member = fc.constantFrom<MemberName[]>(...members);
const happening = fc.oneof(
  { weight: 4, arbitrary: fc.record({ does: fc.constant('edit' as const), member, record }) },
  { weight: 8, arbitrary: fc.record({ does: fc.constant('move' as const), member, record: fc.nat(5), to: fc.nat(6) }) },
  { weight: 1, arbitrary: fc.record({ does: fc.constant('delete' as const), member, record }) },
  {
    weight: 4,
    arbitrary: fc.record({
      does: fc.constant('run' as const),
      fates: fc.array(fc.constantFrom<WriteFate>('ok', 'ok', 'fails', 'refused', 'silent'), { maxLength: 3 }),
    }),
  },
);
type Happening = typeof happening extends fc.Arbitrary<infer T> ? T : never;

async function play({ world, run }: Tree, history: readonly Happening[]): Promise<void> {
  for (const step of history) {
    if (step.does === 'run') await run(step.fates);
    else if (step.does === 'edit') world.edit(step.member, step.record, 'key', `k${step.record}`);
    else if (step.does === 'delete') world.delete(step.member, step.record);
    else {
      const there = [...world.of(step.member).keys()];
      const moved = there[step.record];
      // What it is put under may be there, may come later, or is nothing.
      const to = step.to === 6 ? null : (there[step.to] ?? String(step.to));
      if (moved !== undefined) world.edit(step.member, moved, 'parent', to);
    }
  }
}

test('never in a circle, made from the top, and quiet in the end', async () => {
  const seen = { levels: 0, held: 0, waiting: 0 };
  await fc.assert(
    fc.asyncProperty(
      fc.constantFrom<Parameters<typeof definitionOf>[0][]>('ask', 'order', 'newest'),
      fc.array(happening, { minLength: 4, maxLength: 30 }),
      async (rule, history) => {
        const tree = new Tree(rule);
        tree.run = tree.run.bind(tree);
        for (const [one, key] of [
          ['1', 'k1'],
          ['2', 'k2'],
        ] as const)
          for (const name of ['a', 'b'] as const) tree.world.edit(name, one, 'key', key);
        await tree.run();
        await play(tree, history);
        for (let round = 0; round < 3; round += 1) await tree.run();
        const { operations, held, problems } = await tree.run();
        expect(operations).toEqual([]);
        expect(circlesIn(tree.above)).toEqual([]);
        for (const { reason } of held) if (reason === 'it would stand under itself') seen.held += 1;
        seen.waiting += problems.filter(({ kind }) => kind === 'waiting').length;
        seen.levels += [...tree.above.values()].filter((above) => tree.above.has(above)).length;
      },
    ),
    runs,
  );
  for (const [what, count] of Object.entries(seen)) expect([what, count > 0]).toEqual([what, true]);
});

test('a tree of five levels is made by one run, whatever order its records have', async () => {
  const tree = new Tree('ask');
  for (const level of [5, 4, 3, 2, 1]) {
    tree.world.edit('a', String(level), 'key', `k${level}`);
    if (level > 1) tree.world.edit('a', String(level), 'parent', String(level - 1));
  }
  const { operations } = await tree.run();
  expect(operations.filter(({ kind }) => kind === 'create')).toHaveLength(10);
  expect((await tree.run()).operations).toEqual([]);
  for (const other of ['b', 'c'] as const) {
    const keyOf = (level: number) =>
      [...tree.world.of(other).values()].find(({ fields }) => fields.key === `k${level}`)?.key;
    for (const level of [2, 3, 4, 5])
      expect(tree.world.value(other, keyOf(level) as string, 'parent')).toBe(keyOf(level - 1));
  }
});

test('of two moves that make a circle the second is held, and goes when the first is taken back', async () => {
  const tree = new Tree('newest');
  for (const name of ['a', 'b'] as const) for (const one of ['1', '2']) tree.world.edit(name, one, 'key', `k${one}`);
  await tree.run();
  tree.world.edit('a', '1', 'parent', '2');
  tree.world.edit('b', '2', 'parent', '1');
  const { held } = await tree.run();
  expect(held.map(({ field, reason }) => [field, reason])).toEqual([['parent', 'it would stand under itself']]);
  const [circle] = held;
  if (!circle) throw new Error('nothing is held');
  // Nor may a person close it.
  expect(tree.world.settle(circle, circle.candidates[0]?.value ?? null)).toBe(false);
  tree.world.edit('a', '1', 'parent', null);
  await tree.run();
  expect((await tree.run()).held).toEqual([]);
  expect(tree.above.size).toBe(1);
  expect(tree.world.value('a', '2', 'parent')).toBe('1');
});

test('what a circle holds may be put at the top', async () => {
  const tree = new Tree('newest');
  for (const name of ['a', 'b'] as const) for (const one of ['1', '2']) tree.world.edit(name, one, 'key', `k${one}`);
  await tree.run();
  tree.world.edit('a', '1', 'parent', '2');
  tree.world.edit('b', '2', 'parent', '1');
  const [circle] = (await tree.run()).held;
  if (!circle) throw new Error('nothing is held');
  expect(tree.world.settle(circle, null)).toBe(true);
  await tree.run();
  expect([tree.world.value('b', '1', 'parent'), tree.world.value('b', '2', 'parent')]).toEqual(['2', null]);
  expect((await tree.run()).held).toEqual([]);
});

test('nothing stands under itself, nor under what stands under it', () => {
  const [one, two, three] = ['1', '2', '3'].map(anchorId) as [AnchorId, AnchorId, AnchorId];
  const levels = new Levels();
  levels.learn([
    [two, one],
    [three, two],
  ]);
  expect([levels.isCircle(one, one), levels.isCircle(one, three), levels.isCircle(three, one)]).toEqual([
    true,
    true,
    false,
  ]);
  levels.put(two, undefined);
  levels.learn([[two, one]]);
  expect(levels.isCircle(one, three)).toBe(false);
});

test('a definition says once what stands under what, and only within its own knot', () => {
  const knot = definitionOf('ask');
  const [key, parent] = knot.fields as [Knot['fields'][number], Knot['fields'][number]];
  const twice = compileKnot({ ...knot, fields: [key, parent, { ...parent, id: 'other', name: 'Other' }] });
  expect(twice.ok ? [] : twice.problems).toContainEqual(expect.objectContaining({ at: 'fields.other.levels' }));
  const elsewhere = compileKnot({ ...knot, fields: [key, { ...parent, refersTo: 'people' }] });
  expect(elsewhere).toMatchObject({ ok: false, problems: [{ at: 'fields.parent.levels' }] });
});
