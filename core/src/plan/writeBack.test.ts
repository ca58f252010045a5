/** What a record is told of its thing in another member, when, and what takes it up again. */
import { compileKnot, type Knot, type Member, type OutcomeFields, type SharedField } from '../definition/index.js';
import { smallKnot } from '../testing/smallKnot.js';
import { World } from '../testing/world.js';

const state = { field: 'state', done: 'done', failed: 'failed', pending: 'on its way', ready: 'ready' };
const all: OutcomeFields = { of: 'b', state, words: 'words', time: 'told', key: 'number', link: 'page' };

/** Two members; records of the first are told of the second. */
function knotThatTells(outcome: OutcomeFields = all, second: Partial<Member> = {}, more: Partial<Knot> = {}): Knot {
  const knot = smallKnot({ members: 2, rule: { steps: [{ step: 'ask' }] } });
  const [a, b] = knot.members as [Member, Member];
  return {
    ...knot,
    ...more,
    members: [
      { ...a, outcomes: [outcome] },
      { ...b, ...second },
    ],
  };
}

function worldWith(knot: Knot): World {
  const world = new World(knot);
  world.edit('a', '1', 'key', 'k');
  return world;
}

const toldIn = (world: World, key = '1') => world.of('a').get(key as never)?.fields;

test('what was created is told in the same run, with the key and the time, and then nothing more', async () => {
  const world = worldWith(knotThatTells());
  const made = await world.run();
  expect(made.operations.map(({ member, kind }) => `${kind} ${member}`)).toEqual(['create b', 'write back a']);
  const [there] = [...world.of('b').keys()];
  const time = new Date(world.now).toISOString();
  expect(toldIn(world)).toEqual({ key: 'k', state: 'done', words: null, told: time, number: there, page: null });
  expect((await world.run()).operations).toEqual([]);
});

test('each write over there is told where the time is told, and otherwise only what is news', async () => {
  for (const [outcome, kinds] of [
    [all, ['update', 'write back']],
    [{ of: 'b', state, key: 'number' }, ['update']],
  ] as const) {
    const world = worldWith(knotThatTells(outcome));
    await world.run();
    world.edit('a', '1', 'g', 'new');
    expect((await world.run()).operations.map(({ kind }) => kind)).toEqual(kinds);
    expect((await world.run()).operations).toEqual([]);
  }
});

test('a record that was told is written without being read again: its version is known', async () => {
  const world = worldWith(knotThatTells());
  await world.run();
  world.edit('b', [...world.of('b').keys()][0] as string, 'g', 'from there');
  await world.run({ missing: new Set(['a']) });
  expect(toldIn(world)?.g).toBe('from there');
});

test('records that were there on both sides are told nothing: nothing was written', async () => {
  const world = worldWith(knotThatTells());
  world.edit('b', '9', 'key', 'k');
  expect((await world.run()).operations).toEqual([]);
});

test('a refusal is told with its words; set back to ready it is tried again, also right after it', async () => {
  const world = worldWith(knotThatTells());
  const refused = { fate: ({ member }: { readonly member: string }) => (member === 'b' ? 'refused' : 'ok') } as const;
  await world.run(refused);
  expect(toldIn(world)).toMatchObject({ state: 'failed', words: 'no', number: null });
  expect((await world.run()).operations).toEqual([]);
  world.edit('a', '1', 'state', 'ready');
  const again = await world.run(refused);
  expect(again.operations.map(({ kind }) => kind)).toEqual(['create', 'write back']);
  expect(toldIn(world)).toMatchObject({ state: 'failed' });
  // No run has seen what it was told since.
  world.edit('a', '1', 'state', 'ready');
  expect((await world.run()).operations.map(({ kind }) => kind)).toEqual(['create', 'write back']);
  expect(toldIn(world)).toMatchObject({ state: 'done', words: null });
  world.edit('a', '1', 'state', 'something of mine');
  expect((await world.run()).operations).toEqual([]);
});

test('a record that fails a check is told why, and that all is well when it was corrected', async () => {
  const check = { id: 'g', says: 'G is given', onFail: 'reject', formula: 'g != null', members: ['a'] } as const;
  const world = worldWith(knotThatTells(all, {}, { checks: [check] }));
  world.edit('a', '1', 'g', 'x');
  await world.run();
  world.edit('a', '1', 'g', null);
  await world.run();
  expect(toldIn(world)).toMatchObject({ state: 'failed', words: 'G is given' });
  world.edit('a', '1', 'g', 'y');
  await world.run();
  expect(toldIn(world)).toMatchObject({ state: 'done', words: null });
});

test('what waits for a decision, or cannot be made, is told with the reason', async () => {
  const world = worldWith(knotThatTells(all, { required: ['g'] }));
  await world.run();
  expect(toldIn(world)?.state).toBe('failed');
  expect(toldIn(world)?.words).toContain('g');
  world.edit('a', '1', 'g', 'x');
  await world.run();
  const there = [...world.of('b').keys()][0] as string;
  world.edit('a', '1', 'f', 'one');
  world.edit('b', there, 'f', 'two');
  await world.run();
  expect(toldIn(world)).toMatchObject({ state: 'on its way', words: 'F waits for a decision', number: there });
});

test('what is told of a sensitive field is wrong without its value', async () => {
  const plain = knotThatTells();
  const [key, f, g] = plain.fields as [SharedField, SharedField, SharedField];
  const numbers = { ...g, type: 'number' as const };
  for (const [sensitive, words] of [
    [false, 'G: “secret” is not a number'],
    [true, 'G: “…” is not a number'],
  ] as const) {
    const world = worldWith({ ...plain, fields: [key, f, { ...numbers, sensitive }] });
    world.edit('a', '1', 'g', 'secret');
    await world.run();
    expect(toldIn(world)).toMatchObject({ state: 'failed', words });
  }
});

test('where a system acknowledges later, it is on its way until it has', async () => {
  const world = worldWith(knotThatTells(all, { acknowledges: { field: 'booked', lateAfter: 60 } }));
  await world.run();
  const since = world.now;
  const there = [...world.of('b').keys()][0] as string;
  const waited = () => [...world.anchors.values()][0]?.ties.find(({ member }) => member === 'b')?.unacknowledgedSince;
  expect([waited(), toldIn(world)?.state]).toEqual([since, 'on its way']);
  world.edit('a', '1', 'g', 'more');
  await world.run();
  expect(waited()).toBe(since);
  world.edit('b', there, 'booked', 'yes');
  expect((await world.run()).operations.map(({ kind }) => kind)).toEqual(['write back']);
  expect([waited(), toldIn(world)?.state]).toEqual([undefined, 'done']);
});

test('a record that will not take what it is told is not told it again', async () => {
  const world = worldWith(knotThatTells());
  const deaf = { fate: ({ kind }: { readonly kind: string }) => (kind === 'write back' ? 'refused' : 'ok') } as const;
  await world.run(deaf);
  expect((await world.run()).operations).toEqual([]);
  world.delete('b', [...world.of('b').keys()][0] as string);
  expect((await world.run()).operations).toEqual([]);
});

test('each thing that cannot be told is named where it stands', () => {
  const problemsOf = (outcome: OutcomeFields, member: Partial<Member> = {}): string[] => {
    const knot = knotThatTells(outcome);
    const [a, b] = knot.members as [Member, Member];
    const compiled = compileKnot({ ...knot, members: [{ ...a, ...member }, b] });
    return compiled.ok ? [] : compiled.problems.map(({ at, says }) => `${at}: ${says}`);
  };
  expect(problemsOf(all)).toEqual([]);
  const at = 'members.a.outcomes.b';
  expect(problemsOf({ of: 'b' })).toEqual([`${at}: choose at least one field that it is told in`]);
  expect(problemsOf({ of: 'b', key: 'g' })).toEqual([
    `${at}.key: “g” is a field of the knot already: what is told would look like an edit`,
  ]);
  expect(problemsOf({ of: 'b', key: 'x', words: 'x' })).toEqual([`${at}.key: “x” is told something else already`]);
  expect(problemsOf({ of: 'b', state: { ...state, failed: 'done' } })).toEqual([
    `${at}.state: two states have the same value: nobody could tell them apart`,
  ]);
  expect(problemsOf({ ...all, of: 'nobody' })[0]).toContain('there is no member “nobody”');
  expect(problemsOf(all, { outcomes: [all, all] })[0]).toContain('told twice');
  expect(problemsOf(all, { may: { create: true, update: false } })[0]).toContain('may not be updated there');
  expect(problemsOf(all, { acknowledges: { field: 'g', lateAfter: 0 } })).toHaveLength(2);
});
