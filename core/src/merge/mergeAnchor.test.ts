import { type Knot, type Mapping, type Rule } from '../definition/index.js';
import type { Step } from '../mapping/index.js';
import type { AnchorId } from '../record/index.js';
import { World } from '../testing/world.js';
import { heldFingerprint } from './mergeAnchor.js';
import { settleHeld } from './settleHeld.js';

const mapping = (field: string, steps: readonly Step[] = [], more: Partial<Mapping> = {}): Mapping => ({
  field,
  direction: 'both ways',
  steps,
  absentMeansBlank: false,
  blankAs: 'null',
  drift: 'put back',
  ...more,
});

function knotWith(
  rule: Rule,
  type: 'text' | 'number' | 'note' | 'list',
  mappings: Record<string, Mapping>,
  start: Knot['start'] = 'merge',
): Knot {
  const ids = Object.keys(mappings);
  return {
    id: 'k',
    name: 'K',
    thing: 'thing',
    titleField: 'key',
    start,
    checks: [],
    crosswalks: {},
    members: ids.map((id) => ({
      id,
      system: id,
      object: 'o',
      may: { create: false, update: true },
      startsAnchors: true,
      required: [],
      guards: {},
    })),
    fields: [
      {
        id: 'key',
        name: 'Key',
        type: 'text',
        rule: { steps: [{ step: 'order', members: ids }] },
        mappings: Object.fromEntries(ids.map((id) => [id, mapping('key')])),
      },
      { id: 'value', name: 'Value', type, rule, mappings },
    ],
    keyRules: [{ name: 'Key', fields: [{ field: 'key', normalise: 'exact' }] }],
  };
}

function worldWith(knot: Knot, values: Record<string, string | number | null>): World {
  const world = new World(knot);
  for (const [member, value] of Object.entries(values)) {
    world.edit(member, 'x', 'key', 'k');
    world.edit(member, 'x', 'value', value);
  }
  return world;
}

const newest: Rule = { steps: [{ step: 'newest' }, { step: 'order', members: ['a', 'b', 'c'] }] };
const ask: Rule = { steps: [{ step: 'ask' }] };
const all = (rule: Rule, type: 'text' | 'number' | 'note' = 'text') =>
  knotWith(rule, type, { a: mapping('value'), b: mapping('value'), c: mapping('value') });
const valuesOf = (world: World) => ['a', 'b', 'c'].map((member) => world.value(member, 'x', 'value'));
const anchorOf = (world: World) => [...world.anchors.values()][0] as NonNullable<ReturnType<World['anchors']['get']>>;

test('a shadow drops out: what a narrow member shows of a longer value does not compete with it', () => {
  const knot = knotWith({ steps: [{ step: 'order', members: ['b', 'a'] }] }, 'text', {
    a: mapping('value'),
    b: mapping('value', [{ kind: 'cut', length: 4 }]),
  });
  const world = worldWith(knot, { a: 'Osprey Nursery', b: 'Ospr' });
  const outcome = world.run();
  expect(anchorOf(world).agreed.value?.value).toBe('Osprey Nursery');
  expect(outcome.lost).toEqual([]);
  expect(world.value('b', 'x', 'value')).toBe('Ospr');
});

test('sum of changes takes every edit, equal ones too, each against its own seen', () => {
  const world = worldWith(all({ combine: 'sum', steps: newest.steps }, 'number'), { a: 10, b: 10, c: 10 });
  world.run();
  world.edit('a', 'x', 'value', 12);
  world.edit('b', 'x', 'value', 12);
  world.run();
  expect(valuesOf(world)).toEqual([14, 14, 14]);
});

test('three-way text merges edits of different lines and holds edits of the same line', () => {
  const world = worldWith(all({ combine: 'text', steps: [{ step: 'ask' }] }, 'note'), {
    a: '1\n2\n3',
    b: '1\n2\n3',
    c: '1\n2\n3',
  });
  world.run();
  world.edit('a', 'x', 'value', 'one\n2\n3');
  world.edit('b', 'x', 'value', '1\n2\nthree');
  world.run();
  expect(world.value('c', 'x', 'value')).toBe('one\n2\nthree');
  world.edit('a', 'x', 'value', 'ONE\n2\nthree');
  world.edit('b', 'x', 'value', 'uno\n2\nthree');
  expect(world.run().held).toHaveLength(1);
});

test('an anchored field with an edit that became unreadable is neither read nor overwritten', () => {
  const knot = knotWith(newest, 'number', { a: mapping('value'), b: mapping('value'), c: mapping('value') });
  const world = worldWith(knot, { a: 1, b: 1, c: 1 });
  world.run();
  world.edit('b', 'x', 'value', 'twelve');
  world.edit('a', 'x', 'value', 2);
  const outcome = world.run();
  expect(outcome.problems).toMatchObject([{ member: 'b', kind: 'unreadable', reason: '“twelve” is not a number' }]);
  expect(valuesOf(world)).toEqual([2, 'twelve', 2]);
  world.edit('b', 'x', 'value', 3);
  world.run();
  expect(valuesOf(world)).toEqual([3, 3, 3]);
});

test('adopting leaves what differs until somebody edits', () => {
  const world = worldWith(
    knotWith(newest, 'text', { a: mapping('value'), b: mapping('value'), c: mapping('value') }, 'adopt'),
    { a: 'x', b: 'y', c: 'y' },
  );
  expect(world.run().operations).toEqual([]);
  expect(anchorOf(world).agreed.value).toBeUndefined();
  world.edit('b', 'x', 'value', 'z');
  world.run();
  expect(valuesOf(world)).toEqual(['z', 'z', 'z']);
});

test('a receiving member edited by hand is put back, or left until the agreed value is another', () => {
  for (const drift of ['put back', 'leave'] as const) {
    const world = worldWith(
      knotWith(newest, 'text', {
        a: mapping('value'),
        b: mapping('value'),
        c: mapping('value', [], { direction: 'to', drift }),
      }),
      {
        a: 'x',
        b: 'x',
        c: 'x',
      },
    );
    world.run();
    world.edit('c', 'x', 'value', 'by hand');
    world.run();
    world.run();
    expect(world.value('c', 'x', 'value')).toBe(drift === 'leave' ? 'by hand' : 'x');
    world.edit('a', 'x', 'value', 'new');
    world.run();
    expect(world.value('c', 'x', 'value')).toBe('new');
  }
});

describe('a held field', () => {
  const heldWorld = (): World => {
    const world = worldWith(all(ask), { a: 'x', b: 'x', c: 'x' });
    world.run();
    world.edit('a', 'x', 'value', 'left');
    world.edit('b', 'x', 'value', 'right');
    return world;
  };
  const choose = (world: World, value: string, fingerprint: string) =>
    settleHeld(world.knot, anchorOf(world), { field: 'value', fingerprint, value, person: 'Ottilie', at: world.now });

  test('is settled by a choice, which every system then gets', () => {
    const world = heldWorld();
    const held = world.run().held[0];
    const settled = choose(world, 'right', heldFingerprint(held as never));
    if (!settled.ok) throw new Error(settled.reason);
    world.anchors.set(settled.anchor.id as AnchorId, settled.anchor);
    world.run();
    expect(valuesOf(world)).toEqual(['right', 'right', 'right']);
  });

  test('refuses a choice when the values have changed since they were shown, and a value that was not shown', () => {
    const world = heldWorld();
    const shown = heldFingerprint(world.run().held[0] as never);
    expect(choose(world, 'other', shown)).toEqual({ ok: false, reason: 'not a choice' });
    world.edit('a', 'x', 'value', 'again');
    world.run();
    expect(choose(world, 'left', shown)).toEqual({ ok: false, reason: 'changed meanwhile' });
  });

  test('closes by itself when the systems come to agree', () => {
    const world = heldWorld();
    world.run();
    world.edit('b', 'x', 'value', 'left');
    expect(world.run().held).toEqual([]);
    expect(valuesOf(world)).toEqual(['left', 'left', 'left']);
  });
});

test('a newcomer’s cut value is not completed with the rest of a value that it never held', () => {
  const knot = knotWith(ask, 'text', { a: mapping('value'), b: mapping('value', [{ kind: 'cut', length: 10 }]) });
  const world = worldWith(knot, { a: 'Fernhill Gardens' });
  world.run();
  world.edit('b', 'x', 'key', 'k');
  world.edit('b', 'x', 'value', 'Oakridge N');
  const [held] = world.run().held;
  expect(held?.candidates.map(({ value }) => value)).toEqual(['Oakridge N', 'Fernhill Gardens']);
});
