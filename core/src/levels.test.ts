/**
 * The laws of things that stand under each other: one knot whose things refer to things of the same knot, with records
 * made under others that come later or never, moved on several sides at once, also under what stands under them,
 * deleted, and writes that fail. `LAW_RUNS` says how many histories.
 */
import fc from 'fast-check';
import { compileKnot, type Knot } from './definition/index.js';
import { Levels } from './mapping/index.js';
import { type AnchorId, anchorId } from './record/index.js';
import { Play } from './testing/history.js';
import { howMany } from './testing/howMany.js';
import { treeBeginning, treeHistories, treeKnot, treeRules, treeWorld } from './testing/tree.js';
import type { World } from './testing/world.js';

const runs = howMany(process.env.LAW_RUNS, 400);

/** What stands above each thing, as it is agreed. */
function aboveIn({ anchors }: World): ReadonlyMap<AnchorId, AnchorId> {
  return new Map(
    [...anchors.values()].flatMap(({ id, agreed }) => {
      const above = agreed.parent?.value;
      return typeof above === 'string' ? [[id, anchorId(above)] as const] : [];
    }),
  );
}

test('nothing is lost, never in a circle, made from the top, and quiet in the end', async () => {
  const seen = { levels: 0, held: 0, waiting: 0, edits: 0 };
  await fc.assert(
    fc.asyncProperty(treeRules, treeHistories, async (rule, history) => {
      const play = new Play(treeWorld(rule), [treeKnot(rule)]);
      await play.play([...treeBeginning, ...history]);
      for (let round = 0; round < 3; round += 1) await play.run();
      const { operations, held, problems } = await play.run();
      expect(operations).toEqual([]);
      expect(play.faults).toEqual([]);
      const above = aboveIn(play.installation);
      for (const { reason } of held) if (reason === 'it would stand under itself') seen.held += 1;
      seen.waiting += problems.filter(({ kind }) => kind === 'waiting').length;
      seen.levels += [...above.values()].filter((thing) => above.has(thing)).length;
      seen.edits += play.ledger.counts.agreed + play.ledger.counts.lost + play.ledger.counts.held;
    }),
    runs,
  );
  for (const [what, count] of Object.entries(seen)) expect([what, count > 0]).toEqual([what, true]);
});

test('a tree of five levels is made by one run, whatever order its records have', async () => {
  const tree = treeWorld('ask');
  for (const level of [5, 4, 3, 2, 1]) {
    tree.edit('a', String(level), 'key', `k${level}`);
    if (level > 1) tree.edit('a', String(level), 'parent', String(level - 1));
  }
  const { operations } = await tree.run();
  expect(operations.filter(({ kind }) => kind === 'create')).toHaveLength(10);
  expect((await tree.run()).operations).toEqual([]);
  for (const other of ['b', 'c'] as const) {
    const keyOf = (level: number) => [...tree.of(other).values()].find(({ fields }) => fields.key === `k${level}`)?.key;
    for (const level of [2, 3, 4, 5])
      expect(tree.value(other, keyOf(level) as string, 'parent')).toBe(keyOf(level - 1));
  }
});

test('of two moves that make a circle the second is held, and goes when the first is taken back', async () => {
  const tree = treeWorld('newest');
  for (const name of ['a', 'b'] as const) for (const one of ['1', '2']) tree.edit(name, one, 'key', `k${one}`);
  await tree.run();
  tree.edit('a', '1', 'parent', '2');
  tree.edit('b', '2', 'parent', '1');
  const { held } = await tree.run();
  expect(held.map(({ field, reason }) => [field, reason])).toEqual([['parent', 'it would stand under itself']]);
  const [circle] = held;
  if (!circle) throw new Error('nothing is held');
  // Nor may a person close it.
  expect(tree.settle(circle, circle.candidates[0]?.value ?? null)).toBe(false);
  tree.edit('a', '1', 'parent', null);
  await tree.run();
  expect((await tree.run()).held).toEqual([]);
  expect(aboveIn(tree).size).toBe(1);
  expect(tree.value('a', '2', 'parent')).toBe('1');
});

test('what a circle holds may be put at the top', async () => {
  const tree = treeWorld('newest');
  for (const name of ['a', 'b'] as const) for (const one of ['1', '2']) tree.edit(name, one, 'key', `k${one}`);
  await tree.run();
  tree.edit('a', '1', 'parent', '2');
  tree.edit('b', '2', 'parent', '1');
  const [circle] = (await tree.run()).held;
  if (!circle) throw new Error('nothing is held');
  expect(tree.settle(circle, null)).toBe(true);
  await tree.run();
  expect([tree.value('b', '1', 'parent'), tree.value('b', '2', 'parent')]).toEqual(['2', null]);
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
  const knot = treeKnot('ask');
  const [key, , parent] = knot.fields as [Knot['fields'][number], Knot['fields'][number], Knot['fields'][number]];
  const twice = compileKnot({ ...knot, fields: [key, parent, { ...parent, id: 'other', name: 'Other' }] });
  expect(twice.ok ? [] : twice.problems).toContainEqual(expect.objectContaining({ at: 'fields.other.levels' }));
  const elsewhere = compileKnot({ ...knot, fields: [key, { ...parent, refersTo: 'people' }] });
  expect(elsewhere).toMatchObject({ ok: false, problems: [{ at: 'fields.parent.levels' }] });
});
