import type { Knot, Mapping, Rule } from '../definition/index.js';
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

test('a shadow drops out: what a narrow member shows of a longer value does not compete with it', async () => {
  const knot = knotWith({ steps: [{ step: 'order', members: ['b', 'a'] }] }, 'text', {
    a: mapping('value'),
    b: mapping('value', [{ kind: 'cut', length: 4 }]),
  });
  const world = worldWith(knot, { a: 'Osprey Nursery', b: 'Ospr' });
  const outcome = await world.run();
  expect(anchorOf(world).agreed.value?.value).toBe('Osprey Nursery');
  expect(outcome.lost).toEqual([]);
  expect(world.value('b', 'x', 'value')).toBe('Ospr');
});

test('sum of changes takes every edit, equal ones too, each against its own seen', async () => {
  const world = worldWith(all({ combine: 'sum', steps: newest.steps }, 'number'), { a: 10, b: 10, c: 10 });
  await world.run();
  world.edit('a', 'x', 'value', 12);
  world.edit('b', 'x', 'value', 12);
  await world.run();
  expect(valuesOf(world)).toEqual([14, 14, 14]);
});

test('three-way text merges edits of different lines and holds edits of the same line', async () => {
  const world = worldWith(all({ combine: 'text', steps: [{ step: 'ask' }] }, 'note'), {
    a: '1\n2\n3',
    b: '1\n2\n3',
    c: '1\n2\n3',
  });
  await world.run();
  world.edit('a', 'x', 'value', 'one\n2\n3');
  world.edit('b', 'x', 'value', '1\n2\nthree');
  await world.run();
  expect(world.value('c', 'x', 'value')).toBe('one\n2\nthree');
  world.edit('a', 'x', 'value', 'ONE\n2\nthree');
  world.edit('b', 'x', 'value', 'uno\n2\nthree');
  expect((await world.run()).held).toHaveLength(1);
});

test('an anchored field with an edit that became unreadable is neither read nor overwritten', async () => {
  const knot = knotWith(newest, 'number', { a: mapping('value'), b: mapping('value'), c: mapping('value') });
  const world = worldWith(knot, { a: 1, b: 1, c: 1 });
  await world.run();
  world.edit('b', 'x', 'value', 'twelve');
  world.edit('a', 'x', 'value', 2);
  const outcome = await world.run();
  expect(outcome.problems).toMatchObject([{ member: 'b', kind: 'unreadable', reason: '“twelve” is not a number' }]);
  expect(valuesOf(world)).toEqual([2, 'twelve', 2]);
  world.edit('b', 'x', 'value', 3);
  await world.run();
  expect(valuesOf(world)).toEqual([3, 3, 3]);
});

test('adopting leaves what differs until somebody edits', async () => {
  const world = worldWith(
    knotWith(newest, 'text', { a: mapping('value'), b: mapping('value'), c: mapping('value') }, 'adopt'),
    { a: 'x', b: 'y', c: 'y' },
  );
  expect((await world.run()).operations).toEqual([]);
  expect(anchorOf(world).agreed.value).toBeUndefined();
  world.edit('b', 'x', 'value', 'z');
  await world.run();
  expect(valuesOf(world)).toEqual(['z', 'z', 'z']);
});

test('a receiving member edited by hand is put back, or left until the agreed value is another', async () => {
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
    await world.run();
    world.edit('c', 'x', 'value', 'by hand');
    await world.run();
    await world.run();
    expect(world.value('c', 'x', 'value')).toBe(drift === 'leave' ? 'by hand' : 'x');
    world.edit('a', 'x', 'value', 'new');
    await world.run();
    expect(world.value('c', 'x', 'value')).toBe('new');
  }
});

describe('a held field', () => {
  const heldWorld = async (): Promise<World> => {
    const world = worldWith(all(ask), { a: 'x', b: 'x', c: 'x' });
    await world.run();
    world.edit('a', 'x', 'value', 'left');
    world.edit('b', 'x', 'value', 'right');
    return world;
  };
  const choose = (world: World, value: string, fingerprint: string) =>
    settleHeld(world.knot, anchorOf(world), { field: 'value', fingerprint, value, person: 'Ottilie', at: world.now });

  test('is settled by a choice, which every system then gets', async () => {
    const world = await heldWorld();
    const held = (await world.run()).held[0];
    const settled = choose(world, 'right', heldFingerprint(held as never));
    if (!settled.ok) throw new Error(settled.reason);
    world.anchors.set(settled.anchor.id as AnchorId, settled.anchor);
    await world.run();
    expect(valuesOf(world)).toEqual(['right', 'right', 'right']);
  });

  test('refuses a choice when the values have changed since, and a value that was not shown', async () => {
    const world = await heldWorld();
    const shown = heldFingerprint((await world.run()).held[0] as never);
    expect(choose(world, 'other', shown)).toEqual({ ok: false, reason: 'not a choice' });
    world.edit('a', 'x', 'value', 'again');
    await world.run();
    expect(choose(world, 'left', shown)).toEqual({ ok: false, reason: 'changed meanwhile' });
  });

  test('closes by itself when the systems come to agree', async () => {
    const world = await heldWorld();
    await world.run();
    world.edit('b', 'x', 'value', 'left');
    expect((await world.run()).held).toEqual([]);
    expect(valuesOf(world)).toEqual(['left', 'left', 'left']);
  });
});

test('a newcomer’s cut value is not completed with the rest of a value that it never held', async () => {
  const knot = knotWith(ask, 'text', { a: mapping('value'), b: mapping('value', [{ kind: 'cut', length: 10 }]) });
  const world = worldWith(knot, { a: 'Fernhill Gardens' });
  await world.run();
  world.edit('b', 'x', 'key', 'k');
  world.edit('b', 'x', 'value', 'Oakridge N');
  const [held] = (await world.run()).held;
  expect(held?.candidates.map(({ value }) => value)).toEqual(['Oakridge N', 'Fernhill Gardens']);
});

describe('edits that do not go under', () => {
  test('an edit made between reading and writing reverts nothing of what others edited', async () => {
    const knot = all(newest);
    const fields = ['f', 'g', 'h'].map((id) => ({
      ...(knot.fields[1] as (typeof knot.fields)[number]),
      id,
      mappings: { a: mapping(id), b: mapping(id) },
    }));
    const members = knot.members.slice(0, 2);
    const order: Rule = { steps: [{ step: 'newest' }, { step: 'order', members: ['a', 'b'] }] };
    const key = { ...(knot.fields[0] as (typeof knot.fields)[number]), rule: order };
    const mappings = { a: mapping('key'), b: mapping('key') };
    const world = new World({
      ...knot,
      members,
      fields: [{ ...key, mappings }, ...fields.map((field) => ({ ...field, rule: order }))],
    });
    for (const member of ['a', 'b'])
      for (const path of ['key', 'f', 'g', 'h']) world.edit(member, 'x', path, path === 'key' ? 'k' : 'old');
    await world.run();
    world.edit('a', 'x', 'f', 'A');
    world.edit('b', 'x', 'g', 'B');
    let raced = false;
    const race = () => void (raced ||= (world.edit('a', 'x', 'h', 'H'), true));
    const first = await world.run({ fate: ({ member }) => (member === 'a' && !raced ? 'raced' : 'ok'), race });
    const second = await world.run();
    for (const member of ['a', 'b'])
      expect(['f', 'g', 'h'].map((path) => world.value(member, 'x', path))).toEqual(['A', 'B', 'H']);
    expect([...first.lost, ...second.lost, ...second.operations]).toEqual([]);
  });

  test('an edit that says empty stays held like any other', async () => {
    const world = worldWith(all(ask), { a: '111', b: '111', c: '111' });
    await world.run();
    world.edit('a', 'x', 'value', '222');
    world.edit('b', 'x', 'value', null);
    await world.run();
    expect((await world.run()).held).toHaveLength(1);
    expect(valuesOf(world)).toEqual(['222', null, '111']);
  });

  test('the agreed value has all its givers, and the best-placed one counts, whichever was read first', async () => {
    const rule: Rule = {
      steps: [
        { step: 'newest', toleranceSeconds: 86_400 },
        { step: 'order', members: ['b', 'c', 'a'] },
      ],
    };
    const world = worldWith(all(rule), { a: 'x', b: 'x', c: 'x' });
    await world.run();
    // Both give it at once; it does not reach c, which then edits on its own.
    world.edit('b', 'x', 'value', 'together');
    world.edit('a', 'x', 'value', 'together');
    await world.run({ fate: () => 'fails' });
    world.edit('c', 'x', 'value', 'alone');
    await world.run();
    expect(valuesOf(world)).toEqual(['together', 'together', 'together']);
  });

  test('an edit that repeats the agreed value gives it again, with its own time', async () => {
    const world = worldWith(all({ steps: [{ step: 'newest' }, { step: 'ask' }] }), { a: 'x', b: 'x', c: 'x' });
    await world.run();
    world.edit('a', 'x', 'value', 'agreed');
    await world.run({ fate: () => 'fails' });
    world.edit('b', 'x', 'value', 'other');
    world.edit('c', 'x', 'value', 'agreed');
    await world.run();
    expect(valuesOf(world)).toEqual(['agreed', 'agreed', 'agreed']);
  });

  test('a loss tells the rule that it was lost to, also where the agreed value stands', async () => {
    const order: Rule = { steps: [{ step: 'order', members: ['a', 'b', 'c'] }] };
    const world = worldWith(all(order), { a: 'x', b: 'x', c: 'x' });
    await world.run();
    world.edit('a', 'x', 'value', 'first');
    await world.run({ fate: () => 'fails' });
    world.edit('b', 'x', 'value', 'late');
    const { lost } = await world.run();
    expect(lost).toMatchObject([{ member: 'b', value: 'late', why: { kind: 'rule', rule: 'order' } }]);
  });

  test('the shadow of a shadow has lost nothing', async () => {
    const order: Rule = { steps: [{ step: 'order', members: ['c', 'b', 'a'] }] };
    const knot = knotWith(order, 'text', {
      a: mapping('value', [{ kind: 'case', side: 'member', form: 'upper' }]),
      b: mapping('value', [{ kind: 'cut', length: 6 }]),
      c: mapping('value'),
    });
    const world = worldWith(knot, { a: 'OSPREY', b: 'Osprey', c: 'Osprey Nursery' });
    expect((await world.run()).lost).toEqual([]);
    expect(anchorOf(world).agreed.value?.value).toBe('Osprey Nursery');
  });

  test('a narrow member that did not know the agreed text takes no line from its end', async () => {
    const lines = (text: string): string => text.split(' ').join('\n');
    const knot = knotWith({ combine: 'text', steps: [{ step: 'ask' }] }, 'note', {
      a: mapping('value'),
      b: mapping('value', [{ kind: 'cut', length: 5 }]),
      c: mapping('value'),
    });
    const world = worldWith(knot, { a: lines('X b c'), b: lines('X b c'), c: lines('X b c') });
    await world.run();
    world.edit('a', 'x', 'value', lines('a b c d e f'));
    await world.run({ fate: ({ member }) => (member === 'b' ? 'refused' : 'ok') });
    world.edit('b', 'x', 'value', lines('X b C'));
    const { held } = await world.run();
    const agreed = String(anchorOf(world).agreed.value?.value);
    expect(held.length === 1 || agreed.endsWith(lines('d e f'))).toBe(true);
  });

  test('what was left by hand stays left while the field is held', async () => {
    const knot = knotWith(ask, 'text', {
      a: mapping('value'),
      b: mapping('value'),
      c: mapping('value', [], { direction: 'to', drift: 'leave' }),
    });
    const world = worldWith(knot, { a: 'x', b: 'x', c: 'x' });
    await world.run();
    world.edit('a', 'x', 'value', 'left');
    world.edit('b', 'x', 'value', 'right');
    await world.run();
    world.edit('c', 'x', 'value', 'by hand');
    await world.run();
    world.edit('a', 'x', 'value', 'x');
    world.edit('b', 'x', 'value', 'x');
    await world.run();
    expect(valuesOf(world)).toEqual(['x', 'x', 'by hand']);
  });

  test('what was left by hand stays left after a formula failed once', async () => {
    const base = knotWith(newest, 'text', { a: mapping('value'), b: mapping('value'), c: mapping('value') });
    const label = {
      id: 'label',
      name: 'Label',
      type: 'text' as const,
      rule: ask,
      formula: 'value == "fails" ? text(1 / 0) : "label"',
      mappings: { c: mapping('label', [], { direction: 'to' as const, drift: 'leave' as const }) },
    };
    const world = worldWith({ ...base, fields: [...base.fields, label] }, { a: 'x', b: 'x', c: 'x' });
    await world.run();
    world.edit('c', 'x', 'label', 'by hand');
    await world.run();
    world.edit('a', 'x', 'value', 'fails');
    expect((await world.run()).problems).toHaveLength(1);
    world.edit('a', 'x', 'value', 'y');
    await world.run();
    expect(world.value('c', 'x', 'label')).toBe('by hand');
  });
});

describe('an answer of a system', () => {
  test('that says empty is what the system holds: the write is parked, and nothing else is blanked', async () => {
    const world = worldWith(all(newest), { a: 'x', b: 'x', c: 'x' });
    await world.run();
    world.edit('a', 'x', 'value', 'hello');
    await world.run({ fate: ({ member }) => (member === 'c' ? 'emptied' : 'ok') });
    expect(anchorOf(world).ties.find(({ member }) => member === 'c')?.parked?.words).toContain('hello');
    await world.run();
    expect(valuesOf(world)).toEqual(['hello', 'hello', null]);
  });
});

describe('adopting', () => {
  const adopted = () =>
    knotWith(newest, 'text', { a: mapping('value'), b: mapping('value', [], { direction: 'to' }) }, 'adopt');

  test('overwrites nothing in a member that only receives', async () => {
    const rule: Rule = { steps: [{ step: 'newest' }, { step: 'order', members: ['a', 'b'] }] };
    const knot = adopted();
    const fields = knot.fields.map((field) => (field.id === 'value' ? { ...field, rule } : field));
    const world = worldWith({ ...knot, fields }, { a: 'mine', b: 'theirs' });
    expect((await world.run()).operations).toEqual([]);
    expect(anchorOf(world).agreed.value).toBeUndefined();
    world.edit('a', 'x', 'value', 'new');
    await world.run();
    expect(world.value('b', 'x', 'value')).toBe('new');
  });

  test('creates nothing until somebody edits, and then blanks nothing of which nothing is agreed', async () => {
    const rule: Rule = { steps: [{ step: 'newest' }, { step: 'order', members: ['a', 'b'] }] };
    const knot = adopted();
    const other = { id: 'other', name: 'Other', type: 'text' as const, rule, mappings: {} };
    const world = new World({
      ...knot,
      members: knot.members.map((member) => ({ ...member, may: { create: true, update: true } })),
      fields: [
        ...knot.fields.map((field) => (field.id === 'value' ? { ...field, rule } : field)),
        { ...other, mappings: { a: mapping('other'), b: mapping('other') } },
      ],
    });
    world.edit('b', 'x', 'key', 'k');
    world.edit('b', 'x', 'value', 'kept');
    world.edit('b', 'x', 'other', '1');
    expect((await world.run()).operations).toEqual([]);
    world.edit('b', 'x', 'other', '2');
    expect((await world.run()).operations).toMatchObject([{ kind: 'create', member: 'a' }]);
    const [made] = world.of('a').keys();
    world.edit('a', String(made), 'other', '3');
    await world.run();
    expect(world.value('b', 'x', 'other')).toBe('3');
    expect(world.value('b', 'x', 'value')).toBe('kept');
  });
});

describe('deletions', () => {
  const deleting = (rule: Rule): Knot => {
    const knot = all(rule);
    const may = { create: true, update: true, delete: true };
    return { ...knot, members: knot.members.map((member) => ({ ...member, may, whenDeleted: 'delete' as const })) };
  };

  test('ask where an edit is held elsewhere, and remove nothing meanwhile', async () => {
    const world = worldWith(deleting(ask), { a: 'x', b: 'x', c: 'x' });
    await world.run();
    world.edit('a', 'x', 'value', 'left');
    world.edit('b', 'x', 'value', 'right');
    await world.run();
    world.delete('a', 'x');
    const { asked, operations } = await world.run();
    expect(asked).toHaveLength(1);
    expect(operations.filter(({ kind }) => kind === 'delete')).toEqual([]);
  });

  test('are over when the last record is gone: a thing that comes later begins anew', async () => {
    const world = worldWith(deleting(newest), { a: 'x', b: 'x', c: 'x' });
    await world.run();
    world.delete('a', 'x');
    await world.run();
    expect([...world.of('b').keys(), ...world.of('c').keys()]).toEqual([]);
    world.edit('b', 'returned', 'key', 'k');
    world.edit('b', 'returned', 'value', 'back');
    await world.run();
    await world.run();
    expect(world.value('b', 'returned', 'value')).toBe('back');
    expect([...world.of('a').values()].map(({ fields }) => fields.value)).toEqual(['back']);
  });
});
