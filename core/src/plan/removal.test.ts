import { compileKnot, type Knot, type Member } from '../definition/index.js';
/** What follows elsewhere when a record is deleted. */
import { type Anchor, mergeAnchor, type Reading, type Tie } from '../merge/index.js';
import { anchorId, type MemberId, type Raw, recordKey } from '../record/index.js';
import { afterWrite } from './afterWrite.js';
import { breachedGuards } from './guard.js';
import { planAnchor } from './planAnchor.js';

const members = ['crm', 'shop', 'erp'];
const mapping = {
  field: 'name',
  direction: 'both ways',
  steps: [],
  absentMeansBlank: false,
  blankAs: 'null',
  drift: 'put back',
} as const;

function compiled(more: Partial<Record<MemberId, Partial<Member>>>) {
  const knot: Knot = {
    id: 'k',
    name: 'K',
    thing: 'thing',
    titleField: 'name',
    start: 'merge',
    members: members.map((id) => ({
      id,
      system: id,
      object: 'o',
      may: { create: true, update: true, archive: true, delete: true },
      startsAnchors: true,
      required: [],
      guards: {},
      ...more[id],
    })),
    fields: [
      {
        id: 'name',
        name: 'Name',
        type: 'text',
        rule: { steps: [{ step: 'ask' }] },
        mappings: Object.fromEntries(members.map((id) => [id, mapping])),
      },
    ],
    keyRules: [{ name: 'Name', fields: [{ field: 'name', normalise: 'exact' }] }],
    checks: [],
    crosswalks: {},
  };
  const result = compileKnot(knot);
  if (!result.ok) throw new Error(JSON.stringify(result.problems));
  return result.knot;
}

const tie = (member: MemberId, more: Partial<Tie> = {}): Tie => ({
  member,
  key: recordKey(`${member}1`),
  version: 'v1',
  seen: { name: 'Osprey' },
  ahead: {},
  left: {},
  ...more,
});
const anchor = (...ties: Tie[]): Anchor => ({
  id: anchorId('a'),
  agreed: {
    name: { value: 'Osprey', by: { kind: 'member', member: 'crm' }, at: 0, why: { kind: 'edit', members: ['crm'] } },
  },
  ties,
  beganIn: ['crm'],
  parkedCreates: {},
});

function plan(knot: ReturnType<typeof compiled>, from: Anchor, read: Record<MemberId, Raw> = {}) {
  const readings = new Map(
    Object.entries(read).map(([member, name]): [MemberId, Reading] => [member, { fields: { name }, version: 'v2' }]),
  );
  const merge = mergeAnchor({ knot, anchor: from, readings, now: 1 });
  return { merge, ...planAnchor(knot, merge, 1) };
}

test.each(['archive', 'delete'] as const)(
  'a deletion of one: %s the others, where that may be done, and makes nothing anew',
  (kind) => {
    const knot = compiled({ crm: { whenDeleted: kind }, erp: { may: { create: true, update: true } } });
    const { operations, asked } = plan(knot, anchor(tie('crm', { gone: true }), tie('shop')));
    expect(operations).toMatchObject([
      { kind, member: 'shop', key: 'shop1', version: 'v1', changes: [], why: { kind: 'deleted', member: 'crm' } },
    ]);
    expect(asked).toEqual([]);
    // What may not be removed goes on being kept up to date.
    expect(
      plan(knot, anchor(tie('crm', { gone: true }), tie('shop'), tie('erp')), {
        shop: 'Osprey',
        erp: 'Osprey',
      }).operations.map(({ member }) => member),
    ).toEqual(['shop']);
  },
);

test('nothing is deleted that something refers to, unless that is wanted; it may be put away', () => {
  const gone = anchor(tie('crm', { gone: true }), tie('shop'), tie('erp'));
  const planned = (kind: 'archive' | 'delete', referring: number) => {
    const knot = compiled({ crm: { whenDeleted: kind }, erp: { deletesReferred: true } });
    const { operations, withheld } = planAnchor(
      knot,
      mergeAnchor({ knot, anchor: gone, readings: new Map(), now: 1 }),
      1,
      { referring },
    );
    return [operations.map(({ member }) => member), withheld.map(({ member, reason }) => `${member}: ${reason}`)];
  };
  expect(planned('delete', 0)).toEqual([['shop', 'erp'], []]);
  expect(planned('delete', 3)).toEqual([['erp'], ['shop: it is not deleted while something refers to it: 3 do']]);
  expect(planned('archive', 3)).toEqual([['shop', 'erp'], []]);
});

test('the record that we removed is gone, has no consequences of its own, and the next plan has nothing to do', () => {
  const knot = compiled({ crm: { whenDeleted: 'delete' }, shop: { whenDeleted: 'delete' } });
  const before = anchor(tie('crm', { gone: true }), tie('shop'));
  const { merge, operations } = plan(knot, before);
  const written = { kind: 'written', key: recordKey('shop1'), record: undefined } as const;
  const after = afterWrite(knot, merge.anchor, operations[0] as never, written, 0);
  expect(after.ties[1]).toMatchObject({ gone: true, end: 'deleted' });
  expect(plan(knot, after).operations).toEqual([]);
  const refused = afterWrite(
    knot,
    merge.anchor,
    operations[0] as never,
    { kind: 'refused', words: 'has open orders' },
    0,
  );
  expect(plan(knot, refused)).toMatchObject({
    operations: [],
    withheld: [{ member: 'shop', kind: 'parked', reason: 'has open orders' }],
  });
});

test('an edit elsewhere at the same time makes a person say what follows, and that holds until it is said', () => {
  const knot = compiled({ crm: { whenDeleted: 'delete' } });
  const first = plan(knot, anchor(tie('crm', { gone: true }), tie('shop')), { shop: 'Osprey Ltd' });
  expect(first.operations).toEqual([]);
  expect(first.asked).toEqual([
    { member: 'crm', key: 'crm1', others: [{ member: 'shop', key: 'shop1', archive: true, delete: true }] },
  ]);
  expect(plan(knot, first.merge.anchor).asked).toHaveLength(1);
  const said = (end: Tie['end']) => ({
    ...first.merge.anchor,
    ties: first.merge.anchor.ties.map((one) => (one.gone ? { ...one, end } : one)),
  });
  expect(plan(knot, said('delete others')).operations).toMatchObject([{ kind: 'delete', member: 'shop' }]);
  const kept = plan(knot, said('keep others'));
  expect([kept.asked, kept.operations.filter(({ kind }) => kind === 'delete')]).toEqual([[], []]);
});

test('a record that comes back is tied again, and what was to follow from its deletion is off', () => {
  const knot = compiled({ crm: { whenDeleted: 'ask' } });
  const { merge, asked, operations } = plan(
    knot,
    anchor(tie('crm', { gone: true, end: 'ask' }), tie('shop'), tie('erp')),
    { crm: 'Osprey' },
  );
  expect([merge.anchor.ties[0], asked, operations]).toMatchObject([{ gone: false }, [], []]);
  expect(merge.anchor.ties[0]).not.toHaveProperty('end');
});

test('what we deleted because of a deletion is made anew, once, when it comes back; what others did is not', () => {
  const knot = compiled({ crm: { whenDeleted: 'delete' } });
  const removed = anchor(
    tie('crm', { gone: true, end: 'delete others' }),
    tie('shop', { gone: true, end: 'deleted' }),
    tie('erp', { gone: true, end: 'keep others' }),
  );
  expect(plan(knot, removed).operations).toEqual([]);
  const { merge, operations } = plan(knot, removed, { crm: 'Osprey' });
  // Who keeps apart what was asked for twice is told that it is another record.
  expect(operations).toMatchObject([{ kind: 'create', member: 'shop', parted: 'shop1' }]);
  const refused = { kind: 'refused', words: 'not today' } as const;
  expect(plan(knot, afterWrite(knot, merge.anchor, operations[0] as never, refused, 0))).toMatchObject({
    operations: [],
    withheld: [{ member: 'shop', kind: 'parked' }],
  });
  const written = { kind: 'written', key: recordKey('shop2'), record: undefined } as const;
  const after = afterWrite(knot, merge.anchor, operations[0] as never, written, 0);
  expect(after).toMatchObject({ parted: { shop: 'shop1' } });
  expect(after.ties.map(({ member, key, gone }) => [member, key, gone === true])).toEqual([
    ['crm', 'crm1', false],
    ['erp', 'erp1', true],
    ['shop', 'shop2', false],
  ]);
  expect(plan(knot, after, { crm: 'Osprey', shop: 'Osprey' }).operations).toEqual([]);
  // Deleted again before it was made, it stays away.
  const gone = { ...merge.anchor, ties: merge.anchor.ties.map((one) => ({ ...one, gone: true })) };
  expect(plan(knot, gone).operations).toEqual([]);
});

test('what follows is settled when the deletion is noticed: a later definition removes nothing that was left', () => {
  const noticed = plan(compiled({}), anchor(tie('crm', { gone: true }), tie('shop'))).merge.anchor;
  expect(noticed.ties[0]).toMatchObject({ end: 'keep others' });
  expect(
    plan(compiled({ crm: { whenDeleted: 'delete' } }), noticed).operations.filter(({ kind }) => kind === 'delete'),
  ).toEqual([]);
});

test('nothing follows where the definition says nothing, and a rejected record is left alone', () => {
  expect(plan(compiled({}), anchor(tie('crm', { gone: true }), tie('shop'), tie('erp')))).toMatchObject({
    operations: [],
    asked: [],
  });
  expect(
    plan(
      compiled({ crm: { whenDeleted: 'delete' } }),
      anchor(tie('crm', { gone: true }), tie('shop', { rejected: ['no'] })),
    ).operations,
  ).toEqual([]);
});

test('a guard on removals counts what would be archived and deleted', () => {
  const knot = compiled({ shop: { guards: { removals: 2 } } });
  const counts = (removals: number) => new Map([['shop', { creates: 0, updates: 0, removals, ties: 9 }]]);
  expect(breachedGuards(knot, counts(2))).toEqual([]);
  expect(breachedGuards(knot, counts(3))).toEqual([
    { member: 'shop', says: '3 records would be archived or deleted; the guard allows 2' },
  ]);
});
