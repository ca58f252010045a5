import fc from 'fast-check';
import type { Knot, Mapping, Rule } from '../definition/index.js';
import { type KnownName, LookUps } from '../mapping/index.js';
import type { Happening, RunHappening } from './history.js';
import type { WriteFate } from './played.js';
import { smallKnot } from './smallKnot.js';
import { World } from './world.js';

/** Things that stand under each other: one knot that refers to itself, in three members. */

const members = ['a', 'b', 'c'] as const;
const order = { step: 'order', members: [...members] } as const;
const rules = {
  ask: { steps: [{ step: 'ask' }] },
  newest: { steps: [{ step: 'newest' }, order] },
  order: { steps: [order] },
} satisfies Record<string, Rule>;
export type TreeRule = keyof typeof rules;
export const treeRules = fc.constantFrom<TreeRule[]>('ask', 'order', 'newest');

/** Fields: a key, a text, and what a thing stands under, which each member says by its own records' keys. */
export function treeKnot(rule: TreeRule): Knot {
  const knot = smallKnot({ members: members.length, rule: rules[rule] });
  const [key, text, other] = knot.fields;
  if (!key || !text || !other) throw new Error('the small knot has no such fields');
  const mappings = members.map((member): [string, Mapping] => {
    const known = other.mappings[member] as Mapping;
    return [member, { ...known, field: 'parent', steps: [{ kind: 'reference', by: { member } }] }];
  });
  const parent = {
    ...other,
    id: 'parent',
    name: 'Parent',
    type: 'reference',
    refersTo: 'tree',
    levels: true,
    rule: rules[rule],
    mappings: Object.fromEntries(mappings),
  } as const;
  return { ...knot, id: 'tree', name: 'Tree', fields: [key, text, parent] };
}

/** A world of such things, which knows the names of its own records. */
export function treeWorld(rule: TreeRule): World {
  const world: World = new World(treeKnot(rule), () => new LookUps(namesIn(world)));
  return world;
}

function namesIn({ anchors }: World): KnownName[] {
  return [...anchors.values()].flatMap(({ id, ties }) =>
    ties.map(({ member, key, gone }): KnownName => ({
      knot: 'tree',
      by: { member },
      value: key,
      anchor: id,
      isGone: gone,
    })),
  );
}

const member = fc.nat(members.length - 1);
const record = fc.nat(4);
const text = fc.constantFrom('', 'osprey', 'marram', 'saltpan', 'weir', 'fern');
const fate = fc.constantFrom<WriteFate>('ok', 'ok', 'ok', 'raced', 'fails', 'refused', 'lost', 'silent');
const run: fc.Arbitrary<RunHappening> = fc.record({
  kind: fc.constant('run' as const),
  fates: fc.array(fate, { maxLength: 3 }),
  race: fc.oneof(fc.record({ path: fc.constant('f'), value: text }), fc.record({ to: fc.option(record) })),
});

/** Two things, each in two members. */
export const treeBeginning: readonly Happening[] = [
  ...[1, 2].flatMap((record) =>
    [0, 1].map((member): Happening => ({ kind: 'edit', member, record, path: 'f', value: '' })),
  ),
  { kind: 'run' },
];

/** Records that are made under others that come later or never, moved on several sides at once, renamed and deleted. */
export const treeHistories: fc.Arbitrary<Happening[]> = fc.array(
  fc.oneof(
    {
      weight: 5,
      arbitrary: fc.record({ kind: fc.constant('edit' as const), member, record, path: fc.constant('f'), value: text }),
    },
    {
      weight: 7,
      arbitrary: fc.record({ kind: fc.constant('move' as const), member, record, to: fc.option(record) }),
    },
    { weight: 1, arbitrary: fc.record({ kind: fc.constant('delete' as const), member, record }) },
    { weight: 4, arbitrary: run },
  ),
  { minLength: 4, maxLength: 30 },
);
