/**
 * The laws of references: two knots whose things refer to each other, in a circle, with creations, deletions, partings
 * and merges of what is referred to, edits of references that nothing is known by yet, and failing writes.
 * `LAW_RUNS` says how many.
 */
import fc from 'fast-check';
import { compileKnot, type Knot, type Mapping, withReferences } from './definition/index.js';
import { mergeAnchor, type Problem } from './merge/index.js';
import { type KnownName, LookUps } from './mapping/index.js';
import type { ReferenceBy } from './record/index.js';
import { howMany } from './testing/howMany.js';
import type { WriteFate } from './testing/played.js';
import { smallKnot } from './testing/smallKnot.js';
import { type RunOutcome, World } from './testing/world.js';

const runs = howMany(process.env.LAW_RUNS, 400);
const members = ['a', 'b', 'c'] as const;
type MemberName = (typeof members)[number];
const other = { orders: 'buyers', buyers: 'orders' } as const;
type KnotName = keyof typeof other;

interface Choices {
  readonly rule: 'ask' | 'order' | 'newest';
  readonly directions: readonly Mapping['direction'][];
  readonly notFound: 'wait' | 'blank';
  /** The last member refers by a value of the other knot, and not by a key of its own. */
  readonly lastByValue: boolean;
  /** Nothing is created in the first member without what it refers to. */
  readonly isRequired: boolean;
}

function definitionOf(id: KnotName, { rule, directions, notFound, lastByValue, isRequired }: Choices): Knot {
  const order = { step: 'order', members: [...members] } as const;
  const knot = smallKnot({
    members: members.length,
    rule: { steps: rule === 'ask' ? [{ step: 'ask' }] : rule === 'newest' ? [{ step: 'newest' }, order] : [order] },
  });
  const [key, field] = knot.fields;
  if (!key || !field) throw new Error('the small knot has no fields');
  const byOf = (member: MemberName): ReferenceBy => (member === 'c' && lastByValue ? { field: 'key' } : { member });
  const mappings = members.map((member, place): [string, Mapping] => {
    const known = field.mappings[member] as Mapping;
    const step = { kind: 'reference', by: byOf(member), ...(notFound === 'blank' ? { notFound } : {}) } as const;
    return [member, { ...known, field: 'ref', direction: directions[place] ?? 'both ways', steps: [step] }];
  });
  return {
    ...knot,
    id,
    name: id,
    members: knot.members.map((member) => ({
      ...member,
      required: isRequired && member.id === 'a' && id === 'orders' ? ['ref'] : [],
    })),
    fields: [
      key,
      {
        ...field,
        id: 'ref',
        name: 'Reference',
        type: 'reference',
        refersTo: other[id],
        mappings: Object.fromEntries(mappings),
      },
    ],
  };
}

/** What every system can be told, or can tell, of the things of a knot. */
function namesIn(knot: KnotName, world: World): KnownName[] {
  return [...world.anchors.values()].flatMap((anchor): KnownName[] => {
    const key = anchor.agreed.key?.value;
    const isAlive = anchor.ties.some(({ gone }) => !gone);
    return [
      ...anchor.ties.map((tie): KnownName => ({
        knot,
        by: { member: tie.member },
        value: tie.key,
        anchor: anchor.id,
        isGone: tie.gone,
      })),
      ...(typeof key === 'string' && isAlive ? [{ knot, by: { field: 'key' }, value: key, anchor: anchor.id }] : []),
    ];
  });
}

class Both {
  readonly worlds: Readonly<Record<KnotName, World>>;

  constructor(choices: Choices) {
    const names = (): LookUps =>
      new LookUps((['orders', 'buyers'] as const).flatMap((knot) => namesIn(knot, this.worlds[knot])));
    this.worlds = {
      orders: new World(definitionOf('orders', choices), names),
      buyers: new World(definitionOf('buyers', choices), names),
    };
  }

  async run(knot: KnotName, fates: readonly WriteFate[] = []): Promise<RunOutcome> {
    let write = 0;
    const outcome = await this.worlds[knot].run({
      fate: () => fates[(write += 1) % Math.max(1, fates.length)] ?? 'ok',
    });
    this.#holdsOrder(knot, outcome);
    return outcome;
  }

  /** Ordered: what was written refers to something that is there. */
  #holdsOrder(knot: KnotName, { operations }: RunOutcome): void {
    const there = namesIn(other[knot], this.worlds[other[knot]]);
    for (const { kind, member, changes } of operations) {
      if (kind !== 'create' && kind !== 'update') continue;
      const after = changes.find(({ path }) => path === 'ref')?.after;
      if (after === undefined || after === null) continue;
      const named = there.filter(({ value, isGone }) => value === after && !isGone);
      expect([knot, member, after, named.length > 0]).toEqual([knot, member, after, true]);
    }
  }

  async settle(): Promise<Record<KnotName, RunOutcome>> {
    for (let round = 0; round < 3; round += 1) {
      await this.run('buyers');
      await this.run('orders');
    }
    return { buyers: await this.run('buyers'), orders: await this.run('orders') };
  }
}

const keys = fc.constantFrom('k1', 'k2', 'k3');
const recordNumber = fc.constantFrom('1', '2', '3');
const knots = fc.constantFrom<KnotName[]>('orders', 'buyers');
const member = fc.constantFrom(...members);
const happening = fc.oneof(
  {
    weight: 4,
    arbitrary: fc.record({ does: fc.constant('edit' as const), knot: knots, member, record: recordNumber, key: keys }),
  },
  // What it names may be there, may come later, or never.
  {
    weight: 6,
    arbitrary: fc.record({
      does: fc.constant('refer' as const),
      knot: knots,
      member,
      record: recordNumber,
      to: fc.nat(5),
    }),
  },
  {
    weight: 1,
    arbitrary: fc.record({ does: fc.constant('delete' as const), knot: knots, member, record: recordNumber }),
  },
  { weight: 1, arbitrary: fc.record({ does: fc.constant('untie' as const), knot: knots, member, thing: fc.nat(3) }) },
  {
    weight: 5,
    arbitrary: fc.record({
      does: fc.constant('run' as const),
      knot: knots,
      fates: fc.array(fc.constantFrom<WriteFate>('ok', 'ok', 'fails', 'refused', 'silent'), { maxLength: 3 }),
    }),
  },
);
type Happening = typeof happening extends fc.Arbitrary<infer T> ? T : never;

const choices: fc.Arbitrary<Choices> = fc.record({
  rule: fc.constantFrom<Choices['rule'][]>('ask', 'order', 'newest'),
  directions: fc.tuple(
    fc.constantFrom<Mapping['direction'][]>('both ways', 'from'),
    fc.constantFrom<Mapping['direction'][]>('both ways', 'both ways', 'from', 'to'),
    fc.constantFrom<Mapping['direction'][]>('both ways', 'to'),
  ),
  notFound: fc.constantFrom<Choices['notFound'][]>('wait', 'wait', 'blank'),
  lastByValue: fc.boolean(),
  isRequired: fc.boolean(),
});

/** Two things of each knot, each with a record in two members, so that there is something to refer to. */
async function begin(both: Both): Promise<void> {
  for (const world of Object.values(both.worlds))
    for (const [record, key] of [
      ['1', 'k1'],
      ['2', 'k2'],
    ] as const)
      for (const name of ['a', 'b'] as const) world.edit(name, record, 'key', key);
  await both.run('buyers');
  await both.run('orders');
}

async function play(both: Both, history: readonly Happening[]): Promise<void> {
  for (const step of history) {
    const world = both.worlds[step.knot];
    if (step.does === 'run') await both.run(step.knot, step.fates);
    else if (step.does === 'edit') world.edit(step.member, step.record, 'key', step.key);
    else if (step.does === 'delete') world.delete(step.member, step.record);
    else if (step.does === 'refer') {
      const there = [...both.worlds[other[step.knot]].of(step.member).keys()];
      const byValue = step.member === 'c' && step.to % 2 === 0;
      const to = byValue ? ['k1', 'k2', 'k3'][step.to % 3] : (there[step.to] ?? String(step.to));
      if (world.of(step.member).has(step.record as never)) world.edit(step.member, step.record, 'ref', to ?? null);
    } else {
      const thing = [...world.anchors.keys()][step.thing];
      if (thing !== undefined) world.untie(thing, step.member);
    }
  }
}

const isFound = (both: Both, { waitsFor }: Problem): boolean => {
  if (!waitsFor) return false;
  const names = new LookUps(namesIn(waitsFor.knot as KnotName, both.worlds[waitsFor.knot as KnotName]));
  return 'value' in waitsFor
    ? names.find(waitsFor.knot, waitsFor.by, waitsFor.value).kind === 'one'
    : names.nameOf(waitsFor.knot, waitsFor.by, waitsFor.anchor) !== undefined;
};

test('Ordered, Released, Converge and Quiet hold for things that refer to each other in a circle', async () => {
  const seen = { agreed: 0, waiting: 0, written: 0, held: 0 };
  await fc.assert(
    fc.asyncProperty(choices, fc.array(happening, { minLength: 4, maxLength: 30 }), async (chosen, history) => {
      const both = new Both(chosen);
      await begin(both);
      await play(both, history);
      const last = await both.settle();
      for (const knot of ['orders', 'buyers'] as const) {
        const { operations, problems, held, withheld } = last[knot];
        expect(operations).toEqual([]);
        const world = both.worlds[knot];
        // Released: nothing waits for what is there.
        expect(problems.filter((problem) => isFound(both, problem))).toEqual([]);
        seen.waiting += problems.filter(({ kind }) => kind === 'waiting').length;
        seen.held += held.length;
        const names = new LookUps((['orders', 'buyers'] as const).flatMap((id) => namesIn(id, both.worlds[id])));
        const bound = withReferences(world.knot, names);
        const mappings = bound.fields.find(({ id }) => id === 'ref')?.mappings;
        for (const anchor of world.anchors.values()) {
          const agreed = anchor.agreed.ref;
          const isExempt = (name: string): boolean =>
            held.some((one) => one.anchor === anchor.id) ||
            problems.some((problem) => problem.anchor === anchor.id && problem.member === name) ||
            withheld.some(({ member: of }) => of === name);
          for (const tie of anchor.ties) {
            const lens = mappings?.get(tie.member)?.lens;
            if (tie.gone || !lens?.writes || !agreed || isExempt(tie.member) || tie.parked) continue;
            const present = world.of(tie.member).get(tie.key)?.fields.ref;
            // A record that says nothing is not told that there is nothing.
            if (present === undefined && agreed.value === null) continue;
            expect([knot, tie.member, tie.key, present, lens.means(present, agreed.value)]).toEqual([
              knot,
              tie.member,
              tie.key,
              present,
              true,
            ]);
            if (agreed.value !== null) seen.agreed += 1;
            if (typeof present === 'string' && present.includes('-')) seen.written += 1;
          }
        }
      }
    }),
    runs,
  );
  for (const [what, count] of Object.entries(seen)) expect([what, count > 0]).toEqual([what, true]);
});

const plain: Choices = {
  rule: 'ask',
  directions: ['both ways', 'both ways', 'both ways'],
  notFound: 'wait',
  lastByValue: true,
  isRequired: false,
};

test('what refers to a thing that is not there waits, and goes with the next run after it is there', async () => {
  const both = new Both(plain);
  both.worlds.orders.edit('a', '1', 'key', 'o');
  both.worlds.orders.edit('a', '1', 'ref', '7');
  const waiting = await both.run('orders');
  expect(waiting.problems).toEqual([
    expect.objectContaining({ kind: 'waiting', waitsFor: { knot: 'buyers', by: { member: 'a' }, value: '7' } }),
  ]);
  both.worlds.buyers.edit('a', '7', 'key', 'k7');
  await both.run('buyers');
  expect((await both.run('orders')).problems).toEqual([]);
  const created = [...both.worlds.orders.of('b').values()];
  const [buyer] = [...both.worlds.buyers.of('b').keys()];
  expect(created.map(({ fields }) => fields.ref)).toEqual([buyer]);
  expect([...both.worlds.orders.of('c').values()].map(({ fields }) => fields.ref)).toEqual(['k7']);
});

test('a record that must refer to something is not made before that is there', async () => {
  const both = new Both({ ...plain, isRequired: true });
  both.worlds.orders.edit('b', '1', 'key', 'o');
  both.worlds.orders.edit('b', '1', 'ref', '7');
  const { withheld } = await both.run('orders');
  expect(withheld).toContainEqual({
    member: 'a',
    kind: 'waits',
    reason: 'Reference: what it refers to must be there first',
  });
  expect(both.worlds.orders.of('a').size).toBe(0);
  both.worlds.buyers.edit('b', '7', 'key', 'k7');
  await both.settle();
  expect(both.worlds.orders.of('a').size).toBe(1);
});

test('no record is told to refer to one that was deleted; a value that names it means it still', async () => {
  const both = new Both(plain);
  both.worlds.buyers.edit('a', '7', 'key', 'k');
  both.worlds.buyers.edit('b', '8', 'key', 'k');
  both.worlds.orders.edit('a', '1', 'key', 'o');
  both.worlds.orders.edit('b', '1', 'key', 'o');
  await both.settle();
  both.worlds.buyers.delete('b', '8');
  await both.run('buyers');
  both.worlds.orders.edit('a', '1', 'ref', '7');
  const { problems } = await both.run('orders');
  expect(problems.map(({ member, kind }) => [member, kind])).toEqual([['b', 'waiting']]);
  expect(both.worlds.orders.value('b', '1', 'ref')).toBeUndefined();
  both.worlds.orders.edit('b', '1', 'ref', '8');
  expect((await both.run('orders')).problems).toEqual([]);
});

test('a thing that is parted from another takes along what its records are referred to by', async () => {
  const both = new Both(plain);
  both.worlds.buyers.edit('a', '7', 'key', 'k');
  both.worlds.buyers.edit('b', '8', 'key', 'k');
  await both.run('buyers');
  both.worlds.orders.edit('a', '1', 'key', 'o');
  both.worlds.orders.edit('a', '1', 'ref', '7');
  await both.settle();
  const thing = [...both.worlds.buyers.anchors.values()][0];
  if (!thing) throw new Error('nothing was tied');
  both.worlds.buyers.untie(thing.id, 'a');
  both.worlds.buyers.edit('a', '7', 'key', 'another');
  await both.settle();
  const order = [...both.worlds.orders.anchors.values()][0];
  const parted = [...both.worlds.buyers.anchors.values()].find(({ ties }) =>
    ties.some((tie) => tie.member === 'a' && tie.key === '7'),
  );
  expect([order?.agreed.ref?.value, order?.agreed.ref?.why]).toEqual([parted?.id, { kind: 'reference', member: 'a' }]);
  expect(parted?.id).not.toBe(thing.id);
});

test('a definition says what is wrong with its references', () => {
  const good = definitionOf('orders', plain);
  const [key, reference] = good.fields;
  if (!key || !reference) throw new Error('there are no fields');
  const problemsOf = (changed: Partial<typeof reference>, more: Partial<Knot> = {}): string[] => {
    const compiled = compileKnot({ ...good, ...more, fields: [key, { ...reference, ...changed }] });
    return compiled.ok ? [] : compiled.problems.map(({ at, says }) => `${at}: ${says}`);
  };
  expect(problemsOf({})).toEqual([]);
  expect(problemsOf({ refersTo: undefined })).toContain('fields.ref: say to which knot it refers');
  expect(problemsOf({ type: 'text' })).toContain('fields.ref: only a field of type reference leads to another knot');
  expect(problemsOf({}, { titleField: 'ref' })).toContain(
    'titleField: a reference names another thing: choose a field of its own',
  );
  const late = { ...reference.mappings.a, steps: [{ kind: 'reference', by: { member: 'a' } }, { kind: 'trim' }] };
  expect(problemsOf({ mappings: { ...reference.mappings, a: late as Mapping } })).toEqual([
    'fields.ref.mappings.a.steps.0: the reference is the last step: put the others before it',
  ]);
});

test('without the data of other knots a reference is neither read nor overwritten', () => {
  const compiled = compileKnot(definitionOf('orders', plain));
  if (!compiled.ok) throw new Error('it does not compile');
  const tie = { member: 'a', key: '1' as never, seen: { key: 'o' }, ahead: {}, left: {} };
  const merged = mergeAnchor({
    knot: compiled.knot,
    anchor: { id: 'x' as never, agreed: {}, ties: [tie], beganIn: ['a'], parkedCreates: {} },
    readings: new Map([['a', { fields: { key: 'o', ref: '7' } }]]),
    now: 1,
  });
  expect(merged.problems.map(({ kind, reason }) => [kind, reason])).toEqual([
    ['unreadable', 'what it refers to is not looked up here'],
  ]);
  expect(merged.anchor.ties[0]?.seen.ref).toBeUndefined();
});
