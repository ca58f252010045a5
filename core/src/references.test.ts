/**
 * The laws of references: two knots whose things refer to each other, in a circle, with creations, deletions, partings
 * and merges of what is referred to, edits of references that nothing is known by yet, and failing writes.
 * `LAW_RUNS` says how many.
 */
import fc from 'fast-check';
import { compileKnot, type Knot, type Mapping, withReferences } from './definition/index.js';
import type { LookUps } from './mapping/index.js';
import { type Anchor, isAlive, mergeAnchor, type Problem, type Tie } from './merge/index.js';
import { anchorId, rawEqual, recordKey } from './record/index.js';
import { howMany } from './testing/howMany.js';
import {
  type Both,
  bothWorlds,
  type KnotName,
  other,
  plainReferences as plain,
  referenceChoices,
  type ReferenceChoices,
  referenceHistories,
  referringKnot,
  referringKnots,
} from './testing/referringKnots.js';

const runs = howMany(process.env.LAW_RUNS, 400);
const isFound = (names: LookUps, { waitsFor }: Problem): boolean => {
  if (!waitsFor) return false;
  return 'value' in waitsFor
    ? ['one', 'nobody'].includes(names.find(waitsFor.knot, waitsFor.by, waitsFor.value).kind)
    : names.nameOf(waitsFor.knot, waitsFor.by, waitsFor.anchor) !== undefined;
};

/** Whether a value means something because somebody has said so, and not by a record or a value of its own. */
const saidOf = (both: Both, knot: KnotName, member: string, value: string): boolean =>
  /^[0-5]$/.test(value) && both.of[other[knot]].records.get(member)?.has(recordKey(value)) !== true;

const hasOpenEdit = ({ ahead, seen }: Tie): boolean =>
  Object.entries(ahead).some(([field, { raw }]) => !rawEqual(raw, seen[field]));
const isArchivedWith = (
  { archivedWith }: ReferenceChoices,
  knot: KnotName,
  names: LookUps,
  anchor: Anchor,
): boolean => {
  const thing = anchor.agreed.ref?.value;
  return archivedWith && knot === 'orders' && typeof thing === 'string' && names.isGone(anchorId(thing));
};

test('Ordered, Released, Converge and Quiet hold for things that refer to each other in a circle', async () => {
  const seen = { agreed: 0, waiting: 0, written: 0, held: 0, toldAs: 0, meant: 0, archived: 0 };
  await fc.assert(
    fc.asyncProperty(referenceChoices, referenceHistories, async (chosen, history) => {
      const both = await (await bothWorlds(chosen).begin(chosen)).play(history);
      const last = await both.settle();
      expect(both.faults).toEqual([]);
      const names = both.names();
      for (const knot of referringKnots) {
        const { operations, problems, held, withheld } = last[knot];
        expect(operations).toEqual([]);
        const world = both.of[knot];
        // Released: nothing waits for what is there.
        expect(problems.filter((problem) => isFound(names, problem))).toEqual([]);
        seen.waiting += problems.filter(({ kind }) => kind === 'waiting').length;
        seen.held += held.length;
        const bound = withReferences(world.knot, names);
        const mappings = bound.fields.find(({ id }) => id === 'ref')?.mappings;
        for (const anchor of world.anchors.values()) {
          const agreed = anchor.agreed.ref;
          const isExempt = (name: string): boolean =>
            held.some((one) => one.anchor === anchor.id) ||
            problems.some((problem) => problem.anchor === anchor.id && problem.member === name) ||
            withheld.some(({ member: of }) => of === name);
          if (isArchivedWith(chosen, knot, names, anchor)) {
            // What refers to a thing that is there no more is there no more either, but for what is still to settle.
            if (!isAlive(anchor)) seen.archived += 1;
            else expect(anchor.ties.some((tie) => tie.parked ?? hasOpenEdit(tie))).toBe(true);
            continue;
          }
          for (const tie of anchor.ties) {
            const lens = mappings?.get(tie.member)?.lens;
            if (tie.gone || !lens?.writes || !agreed || isExempt(tie.member) || tie.parked) continue;
            const present = world.of(tie.member).get(tie.key)?.fields.ref;
            // A record that says nothing is not told that there is nothing.
            if (present === undefined && agreed.value === null) continue;
            // Nor one that no longer sends a field: absent is no edit, so what was seen there stands.
            if (present === undefined && tie.seen.ref !== undefined) continue;
            expect([knot, tie.member, tie.key, present, lens.means(present, agreed.value)]).toEqual([
              knot,
              tie.member,
              tie.key,
              present,
              true,
            ]);
            if (agreed.value !== null) seen.agreed += 1;
            const alone = lens.inbound(present ?? null, undefined);
            if (alone.ok && alone.value !== agreed.value) seen.toldAs += 1;
            if (typeof present === 'string' && saidOf(both, knot, tie.member, present)) seen.meant += 1;
            if (typeof present === 'string' && present.includes('-')) seen.written += 1;
          }
        }
      }
    }),
    runs,
  );
  for (const [what, count] of Object.entries(seen)) expect([what, count > 0]).toEqual([what, true]);
});

test('what refers to a thing that is not there waits, and goes with the next run after it is there', async () => {
  const both = bothWorlds(plain);
  both.of.orders.edit('a', '1', 'key', 'o');
  both.of.orders.edit('a', '1', 'ref', '7');
  const waiting = await both.run('orders');
  expect(waiting.problems).toEqual([
    expect.objectContaining({ kind: 'waiting', waitsFor: { knot: 'buyers', by: { member: 'a' }, value: '7' } }),
  ]);
  both.of.buyers.edit('a', '7', 'key', 'k7');
  await both.run('buyers');
  expect((await both.run('orders')).problems).toEqual([]);
  const created = [...both.of.orders.of('b').values()];
  const [buyer] = [...both.of.buyers.of('b').keys()];
  expect(created.map(({ fields }) => fields.ref)).toEqual([buyer]);
  expect([...both.of.orders.of('c').values()].map(({ fields }) => fields.ref)).toEqual(['k7']);
});

test('a record that must refer to something is not made before that is there', async () => {
  const both = bothWorlds({ ...plain, isRequired: true });
  both.of.orders.edit('b', '1', 'key', 'o');
  both.of.orders.edit('b', '1', 'ref', '7');
  const { withheld } = await both.run('orders');
  expect(withheld).toContainEqual({
    member: 'a',
    kind: 'waits',
    reason: 'Reference: what it refers to must be there first',
  });
  expect(both.of.orders.of('a').size).toBe(0);
  both.of.buyers.edit('b', '7', 'key', 'k7');
  await both.settle();
  expect(both.of.orders.of('a').size).toBe(1);
});

test('no record is told to refer to one that was deleted; a value that names it means it still', async () => {
  const both = bothWorlds(plain);
  both.of.buyers.edit('a', '7', 'key', 'k');
  both.of.buyers.edit('b', '8', 'key', 'k');
  both.of.orders.edit('a', '1', 'key', 'o');
  both.of.orders.edit('b', '1', 'key', 'o');
  await both.settle();
  both.of.buyers.delete('b', '8');
  await both.run('buyers');
  both.of.orders.edit('a', '1', 'ref', '7');
  const { problems } = await both.run('orders');
  expect(problems.map(({ member, kind }) => [member, kind])).toEqual([['b', 'waiting']]);
  expect(both.of.orders.value('b', '1', 'ref')).toBeUndefined();
  both.of.orders.edit('b', '1', 'ref', '8');
  expect((await both.run('orders')).problems).toEqual([]);
});

test('who has left is told as another one, and still is who was meant; a team means nobody', async () => {
  const both = bothWorlds(plain);
  for (const [record, key] of [
    ['7', 'k'],
    ['8', 'other'],
  ] as const)
    for (const name of ['a', 'b'] as const) both.of.buyers.edit(name, record, 'key', key);
  for (const name of ['a', 'b'] as const) both.of.orders.edit(name, '1', 'key', 'o');
  await both.settle();
  both.of.buyers.delete('b', '7');
  both.of.orders.edit('a', '1', 'ref', '7');
  const [left, other] = [...both.of.buyers.anchors.values()].map(({ id }) => id);
  if (!left || !other) throw new Error('there are no buyers');
  expect((await both.settle()).orders.problems.map(({ kind }) => kind)).toEqual(['waiting']);
  await both.say({ knot: 'buyers', by: { member: 'b' }, of: { anchor: left }, stands: other });
  expect((await both.settle()).orders.problems).toEqual([]);
  const order = (): unknown => [...both.of.orders.anchors.values()][0]?.agreed.ref?.value;
  expect([both.of.orders.value('b', '1', 'ref'), order()]).toEqual(['8', left]);
  both.of.orders.edit('a', '1', 'ref', 'team');
  await both.settle();
  expect([both.of.orders.value('b', '1', 'ref'), order()]).toEqual(['8', left]);
  await both.say({ knot: 'buyers', by: { member: 'a' }, of: { value: 'team' }, stands: null });
  await both.settle();
  expect([both.of.orders.value('a', '1', 'ref'), both.of.orders.value('b', '1', 'ref'), order()]).toEqual([
    'team',
    null,
    null,
  ]);
});

test('a thing that is parted from another takes along what its records are referred to by', async () => {
  const both = bothWorlds(plain);
  both.of.buyers.edit('a', '7', 'key', 'k');
  both.of.buyers.edit('b', '8', 'key', 'k');
  await both.run('buyers');
  both.of.orders.edit('a', '1', 'key', 'o');
  both.of.orders.edit('a', '1', 'ref', '7');
  await both.settle();
  const thing = [...both.of.buyers.anchors.values()][0];
  if (!thing) throw new Error('nothing was tied');
  both.of.buyers.untie(thing.id, 'a');
  both.of.buyers.edit('a', '7', 'key', 'another');
  await both.settle();
  const order = [...both.of.orders.anchors.values()][0];
  const parted = [...both.of.buyers.anchors.values()].find(({ ties }) =>
    ties.some((tie) => tie.member === 'a' && tie.key === '7'),
  );
  expect([order?.agreed.ref?.value, order?.agreed.ref?.why]).toEqual([parted?.id, { kind: 'reference', member: 'a' }]);
  expect(parted?.id).not.toBe(thing.id);
});

test('what has edits that are open is not archived with what it referred to', async () => {
  const both = bothWorlds({ ...plain, archivedWith: true });
  const { orders, buyers } = both.of;
  for (const name of ['a', 'b'] as const) {
    for (const [record, key] of [
      ['7', 'k'],
      ['8', 'other'],
    ] as const)
      buyers.edit(name, record, 'key', key);
    orders.edit(name, '1', 'key', 'o');
    orders.edit(name, '1', 'ref', '7');
  }
  await both.settle();
  for (const name of ['a', 'b', 'c'])
    for (const { key, fields } of [...buyers.of(name).values()]) if (fields.key === 'k') buyers.delete(name, key);
  orders.edit('a', '1', 'ref', '8');
  orders.edit('b', '1', 'ref', null);
  await both.run('buyers');
  const { operations, held, withheld } = await both.run('orders');
  expect([operations, held.length]).toEqual([[], 1]);
  expect(withheld.map(({ reason }) => reason)).toContain(
    'what it refers to is there no more; it is archived when its edits are settled',
  );
  // They agree that it is as it was: by then it goes with it.
  for (const name of ['a', 'b'] as const) orders.edit(name, '1', 'ref', '7');
  const archived = await both.run('orders');
  expect(archived.operations.map(({ kind, member }) => `${kind} ${member}`).sort()).toEqual([
    'archive a',
    'archive b',
    'archive c',
  ]);
});

test('a definition says what is wrong with its references', () => {
  const good = referringKnot('orders', plain);
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
  const compiled = compileKnot(referringKnot('orders', plain));
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
