/** Which fields are proposed as references, from how many of their values are known elsewhere. */
import { accept, openProposals } from '../editing/index.js';
import { smallKnot } from '../testing/smallKnot.js';
import type { ProposalMember } from './proposeFields.js';
import { fieldsToLookUp, type FoundValues, proposeReferences } from './proposeReferences.js';
import { reasonWords } from './reasonWords.js';
import { ObjectSketcher } from './sketch.js';

/** Orders of 40 buyers: with a key of theirs, an amount, a few states, and a long remark. */
function member(id: string, buyer: (index: number) => string | number): ProposalMember {
  const sketcher = new ObjectSketcher();
  for (let index = 0; index < 120; index += 1)
    sketcher.add({
      no: `O-${1000 + index}`,
      buyer_no: buyer(index % 40),
      pieces: index % 30,
      state: ['open', 'sent', 'paid'][index % 3] as string,
      remark: `Order ${index}: `.padEnd(90, 'please ring twice '),
    });
  return { id, object: sketcher.sketch(), fields: [], mayUpdate: id === 'erp' };
}

const members = [member('shop', (index) => 7000 + index), member('erp', (index) => `D${100 + index}`)];
const target = { id: 'buyers', thing: 'buyer' };
const fields = fieldsToLookUp(members, (_, path) => path === 'no');
const found = (of: string, path: string, count: number): FoundValues => {
  const field = fields.find((one) => one.member === of && one.path === path);
  if (!field) throw new Error(`${path} of ${of} is not looked up`);
  return { ...field, target, by: { member: of }, words: `keys of Buyers in ${of}`, found: count };
};

test('fields with many short values are looked up, and nothing that is taken or tells nothing', () => {
  expect(fields.map(({ member: of, path, values }) => [of, path, values.length])).toEqual([
    ['shop', 'buyer_no', 40],
    ['shop', 'pieces', 30],
    ['erp', 'buyer_no', 40],
    ['erp', 'pieces', 30],
  ]);
});

test('a shared field that refers is proposed where most values are known, with what is left over', () => {
  // Small numbers are keys somewhere too; nothing else says that pieces are buyers.
  const all = [found('shop', 'buyer_no', 38), found('shop', 'pieces', 30), found('erp', 'buyer_no', 40)];
  const [proposal, ...more] = proposeReferences(all, members, []);
  expect(more).toEqual([]);
  expect(proposal).toMatchObject({ id: 'buyer', name: 'Buyer', type: 'reference', refersTo: 'buyers', isNew: true });
  expect(proposal?.cells.map(({ member: of, field, direction, steps }) => [of, field, direction, steps])).toEqual([
    ['shop', 'buyer_no', 'from', [{ kind: 'reference', by: { member: 'shop' } }]],
    ['erp', 'buyer_no', 'both ways', [{ kind: 'reference', by: { member: 'erp' } }]],
  ]);
  expect(proposal?.cells.flatMap(({ reasons }) => reasons.map(reasonWords))).toEqual([
    '38 of 40 values are keys of Buyers in shop; 2 are not known',
    '40 of 40 values are keys of Buyers in erp',
  ]);
});

test('nothing is proposed from few values, from one member alone, or for what refers there already', () => {
  expect(proposeReferences([found('shop', 'buyer_no', 20), found('erp', 'buyer_no', 40)], members, [])).toEqual([]);
  const both = [found('shop', 'buyer_no', 40), found('erp', 'buyer_no', 40)];
  const known = {
    id: 'customer',
    type: 'reference',
    refersTo: 'buyers',
    mappings: { shop: { field: 'buyer_no' } },
  } as const;
  expect(proposeReferences(both, members, [known]).map(({ id, isNew, cells }) => [id, isNew, cells.length])).toEqual([
    ['customer', false, 1],
  ]);
});

test('what is accepted is a reference to that knot', () => {
  const [proposal] = proposeReferences([found('shop', 'buyer_no', 40), found('erp', 'buyer_no', 40)], members, []);
  if (!proposal) throw new Error('nothing was proposed');
  const shown = { ...proposal, crosswalk: null, cells: proposal.cells.map((cell) => ({ ...cell, reasons: [] })) };
  const knot = smallKnot({ members: 2, rule: { steps: [{ step: 'ask' }] } });
  const definition = {
    ...knot,
    members: knot.members.map((one, at) => ({ ...one, id: ['shop', 'erp'][at] as string })),
  };
  const open = openProposals([shown], definition);
  const taken = accept(open)(definition).fields.at(-1);
  expect(taken).toMatchObject({ id: 'buyer', type: 'reference', refersTo: 'buyers' });
  expect(Object.keys(taken?.mappings ?? {})).toEqual(['shop', 'erp']);
});
