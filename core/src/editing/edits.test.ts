import { readFileSync } from 'node:fs';
import { knotDraftSchema, knotFileSchema } from '@anchor-knot/contracts';
import { compileKnot, type Knot } from '../definition/index.js';
import { freeId } from './edit.js';
import {
  addField,
  mapTo,
  nameOfPath,
  newMapping,
  removeField,
  setField,
  setFormula,
  setMapping,
  setRules,
  takeFields,
  unmap,
} from './fieldEdits.js';
import { nameEvidence, setEvidence, setThresholds, setWeights } from './identityEdits.js';
import { setChecks, setCrosswalk, setKnot, usersOf, withObjects } from './knotEdits.js';
import { addMember, moveMember, removeMember, setMember } from './memberEdits.js';
import { accept, type FieldProposal, openProposals, pairsOf } from './proposals.js';

const demo: Knot = knotDraftSchema.parse(
  knotFileSchema.parse(JSON.parse(readFileSync('server/demo/customers.knot.json', 'utf8'))).knot,
);
const fieldOf = (definition: Knot, id: string) => definition.fields.find((field) => field.id === id);
const problemsOf = (definition: Knot) => {
  const compiled = compileKnot(definition);
  return compiled.ok ? [] : compiled.problems;
};

const cell = (member: string, field: string): FieldProposal['cells'][number] => ({
  member,
  field,
  direction: 'both ways',
  steps: [],
  confidence: 0.9,
  reasons: [],
});
const proposal = (id: string, type: FieldProposal['type'], ...cells: FieldProposal['cells']): FieldProposal => ({
  id,
  name: id,
  type,
  isNew: true,
  isKey: type === 'email',
  cells,
  crosswalk: null,
});
const { evidence: _, ...unweighed } = demo;
const empty: Knot = { ...unweighed, titleField: '', fields: [], keyRules: [], checks: [], crosswalks: {} };

test('an edit leaves what was before as it is, so that it can be undone', () => {
  const before = JSON.stringify(demo);
  for (const edit of [
    addField('Colour'),
    removeField('email'),
    mapTo('email', 'granary', 'debtor_no', false),
    setMapping('email', 'crm', { direction: 'from' }),
    unmap('email', 'crm'),
    setMember('crm', { startsAnchors: false }),
    removeMember('erp'),
    moveMember('erp', -2),
    setFormula('company', 'email'),
  ]) {
    expect(edit(demo)).not.toEqual(demo);
    expect(JSON.stringify(demo)).toBe(before);
  }
});

test('what names a field or a member that is taken out goes with it: the rest can be put in force still', () => {
  expect(problemsOf(demo)).toEqual([]);
  const without = removeMember('erp')({
    ...demo,
    members: demo.members.map((member) => (member.id === 'shop' ? { ...member, onlyFrom: ['erp'] } : member)),
  });
  // Only what no member gives any more is left to be mended by a person.
  expect(problemsOf(without).map(({ at }) => at)).toEqual(['fields.legalName']);
  expect(without.members.find(({ id }) => id === 'shop')?.onlyFrom).toBeUndefined();
  const less = removeField('email')(demo);
  expect(less.keyRules.map(({ name }) => name)).toEqual(['Debtor number']);
  expect(removeField('company')(demo).titleField).not.toBe('company');
  const ordered = setMember('crm', { inOrderOf: 'lastVisit' })(demo);
  expect(problemsOf(ordered)).toEqual([]);
  expect(problemsOf(removeField('lastVisit')(ordered))).toEqual([]);
  expect(problemsOf(setMember('shop', { inOrderOf: 'company' })(ordered))).toMatchObject([
    { at: 'members.shop.inOrderOf', says: expect.stringContaining('lastVisit') },
  ]);
  expect(problemsOf(setMember('crm', { inOrderOf: 'gone' })(demo)).map(({ says }) => says)).toEqual([
    'there is no shared field “gone”',
  ]);
});

test('a field that is made computed is only written, and can be given by members again', () => {
  const computed = setFormula('email', 'firstName')(demo);
  expect(fieldOf(computed, 'email')?.mappings).toMatchObject({ crm: { direction: 'to' }, shop: { direction: 'to' } });
  expect(problemsOf(computed).map(({ at }) => at)).toEqual(['keyRules.Email']);
  expect(fieldOf(setFormula('email', undefined)(computed), 'email')).not.toHaveProperty('formula');
  expect(fieldOf(mapTo('contactName', 'crm', 'notes', true)(demo), 'contactName')?.mappings.crm?.direction).toBe('to');
});

test('a field that takes numbers of a series is a text that is given by systems', () => {
  const numbered = setField('company', { series: 'customers' })(demo);
  expect(fieldOf(numbered, 'company')).toMatchObject({ series: 'customers' });
  for (const other of [setField('company', { type: 'number' }), setFormula('company', 'email')])
    expect(fieldOf(other(numbered), 'company')).not.toHaveProperty('series');
  expect(fieldOf(setField('creditLimit', { series: 'customers' })(demo), 'creditLimit')).not.toHaveProperty('series');
});

test('a field that can only be read is mapped from, whatever was set before', () => {
  expect(fieldOf(mapTo('email', 'crm', '@key', false)(demo), 'email')?.mappings.crm).toMatchObject({
    field: '@key',
    direction: 'from',
  });
});

test('ids are plain words that nobody else has', () => {
  expect(freeId('Straße & Nr.', [])).toMatch(/^[a-z][A-Za-z0-9]*$/);
  expect(freeId('Street', ['street', 'street2'])).toBe('street3');
  expect(freeId('42', [])).toBe('field42');
  expect(freeId('日本', [])).toMatch(/^[a-z][A-Za-z0-9]*$/);
  const [one] = addField('x'.repeat(300))(empty).fields;
  expect(one?.id).toMatch(/^[a-z][A-Za-z0-9]{0,39}$/);
  const added = addMember(
    { system: 's', object: 'o', may: { create: true, update: true }, startsAnchors: true, required: [], guards: {} },
    'Fernhill CRM',
  )(demo);
  expect(added.members.at(-1)?.id).toBe('fernhill');
});

test('proposals fill what is free, are never made twice, and bring the first key, title and crosswalk', () => {
  const crosswalk = { name: 'Groups', rows: [] };
  const proposals = [
    proposal('email', 'email', cell('crm', 'contact.email'), cell('shop', 'mail')),
    proposal('company', 'text', cell('crm', 'name'), cell('shop', 'company_name'), cell('erp', 'name')),
    { ...proposal('group', 'choice', cell('crm', 'segment'), cell('shop', 'group_id')), crosswalk },
  ];
  const accepted = accept(proposals)(empty);
  expect(accepted).toMatchObject({
    titleField: 'company',
    keyRules: [{ name: 'email', fields: [{ field: 'email', normalise: 'email' }] }],
    crosswalks: { group: crosswalk },
  });
  expect(problemsOf(accepted)).toEqual([]);
  expect(openProposals(proposals, accepted)).toEqual([]);
  const less = unmap('company', 'erp')(accepted);
  expect(openProposals(proposals, less)).toMatchObject([{ id: 'company', isNew: false, cells: [{ member: 'erp' }] }]);
  // A field with one side only says nothing: it is not proposed as a new one.
  expect(openProposals([proposal('x', 'text', cell('crm', 'x'))], empty)).toEqual([]);
});

test('what is turned down is remembered as the pairs that it would have made, in the order of members', () => {
  const turned = pairsOf(
    proposal('company', 'text', cell('shop', 'company_name'), cell('crm', 'name'), cell('erp', 'name')),
    'shop',
    empty,
  );
  expect(turned).toEqual([
    { member: 'shop', field: 'company_name', with: 'name' },
    { member: 'erp', field: 'name', with: 'company_name' },
  ]);
});

test('a cell that was turned down is left out, and the others of its field stay, whichever it was', () => {
  const one = proposal('company', 'text', cell('crm', 'name'), cell('shop', 'company_name'), cell('erp', 'name'));
  for (const member of ['crm', 'shop', 'erp']) {
    const [open] = openProposals([one], empty, pairsOf(one, member, empty));
    expect(open?.cells.map((left) => left.member)).toEqual(['crm', 'shop', 'erp'].filter((id) => id !== member));
  }
  const two = proposal('company', 'text', cell('crm', 'name'), cell('shop', 'company_name'));
  expect(openProposals([two], empty, pairsOf(two, 'shop', empty))).toEqual([]);
  // What joins a field that is mapped already stays away from it for good.
  const mapped = mapTo('company', 'crm', 'name', true)(addField('Company')(empty));
  const joining = proposal('company', 'text', cell('shop', 'company_name'));
  expect(openProposals([joining], mapped)).toHaveLength(1);
  expect(openProposals([joining], mapped, pairsOf(joining, 'shop', mapped))).toEqual([]);
});

test('what was learned belongs to what is compared: other evidence is learned anew, other names are not', () => {
  const weights = demo.evidence?.weights;
  if (!weights) throw new Error('the demo weighs nothing');
  const parts = demo.evidence?.fields ?? [];
  expect(nameEvidence(0, 'Firm')(demo).evidence).toMatchObject({ fields: [{ name: 'Firm' }, {}, {}, {}], weights });
  expect(setThresholds({ upper: 9, lower: 1 })(demo).evidence).toMatchObject({
    thresholds: { upper: 9, lower: 1 },
    weights,
  });
  const fewer = setEvidence(parts.slice(1))(demo);
  expect(fewer.evidence).toEqual({ fields: parts.slice(1), thresholds: demo.evidence?.thresholds });
  expect(problemsOf(fewer).map(({ at, says }) => [at, says])).toEqual([
    ['evidence.weights', 'let the weights be learned from the data'],
  ]);
  expect(problemsOf(setWeights({ ...weights, fields: weights.fields.slice(1) })(fewer))).toEqual([]);
  expect(problemsOf(setWeights(weights)(fewer)).map(({ says }) => says)).toEqual([
    'the evidence has changed: let the weights be learned again',
  ]);
  expect(setEvidence([])(demo)).not.toHaveProperty('evidence');
  // A field that goes takes its part along, or leaves the rest of the part.
  expect(removeField('phone')(demo).evidence?.fields.map(({ name }) => name)).toEqual([
    'Company',
    'Contact',
    'Address',
  ]);
  expect(removeField('postcode')(demo).evidence).toEqual({
    fields: parts.map((part) => (part.name === 'Address' ? { ...part, fields: ['street'] } : part)),
    thresholds: demo.evidence?.thresholds,
  });
  expect(removeField('note')(demo).evidence).toEqual(demo.evidence);
});

test('a member that goes leaves no check of nobody, and no rule that asks twice or not at all', () => {
  const [check] = demo.checks;
  if (!check) throw new Error('the demo has no check');
  const stepsOf = (definition: Knot) => fieldOf(definition, 'phone')?.rule.steps.map(({ step }) => step);
  const withSteps = (...steps: Knot['fields'][number]['rule']['steps']) =>
    removeMember('erp')(setRules(['phone'], { steps })(demo));
  expect(stepsOf(withSteps({ step: 'order', members: ['erp'] }, { step: 'ask' }))).toEqual(['ask']);
  expect(stepsOf(withSteps({ step: 'newest' }, { step: 'order', members: ['erp'] }))).toEqual(['newest', 'ask']);
  expect(stepsOf(withSteps({ step: 'order', members: ['erp', 'crm'] }))).toEqual(['order']);
  const onlyThere = setChecks([
    { ...check, members: ['erp'] },
    { ...check, id: 'all', members: undefined },
  ])(demo);
  expect(removeMember('erp')(onlyThere).checks.map(({ id }) => id)).toEqual(['all']);
});

test('members move by so many places, as far as there are any; nobody else moves', () => {
  const order = (definition: Knot) => definition.members.map(({ id }) => id);
  expect(order(moveMember('granary', -9)(demo))).toEqual(['granary', 'crm', 'shop', 'erp']);
  expect(order(moveMember('crm', 2)(demo))).toEqual(['shop', 'erp', 'crm', 'granary']);
  expect(moveMember('nobody', 1)(demo)).toBe(demo);
});

test('fields of a member are shared as they are there; what is shared already is not shared twice', () => {
  const there = [
    { path: 'contact.email', type: 'email' },
    { path: 'contact.lastVisitedAt', type: 'instant' },
    { path: 'VIP', type: 'yes/no' },
    { path: '…', type: 'mixed' },
  ];
  const taken = takeFields('crm', there)(demo);
  expect(taken.fields.slice(demo.fields.length).map(({ name, type, mappings }) => [name, type, mappings])).toEqual([
    ['Contact last visited at', 'instant', { crm: newMapping('contact.lastVisitedAt', 'from') }],
    ['Vip', 'yes/no', { crm: newMapping('VIP', 'from') }],
    ['…', 'text', { crm: newMapping('…', 'from') }],
  ]);
  expect(new Set(taken.fields.map(({ id }) => id)).size).toBe(taken.fields.length);
  expect(takeFields('crm', there)(taken)).toBe(taken);
});

test.each([
  ['contact.firstName', 'Contact first name'],
  ['debtor_no', 'Debtor no'],
  ['Straße2', 'Straße2'],
  ['$$$', '$$$'],
])('%s is called %s', (path, name) => expect(nameOfPath(path)).toBe(name));

test('one rule for many fields keeps for each what fits its type', () => {
  const rule = { combine: 'sum', steps: [{ step: 'ask' }] } as const;
  const changed = setRules(['creditLimit', 'note', 'email'], rule)(demo);
  const combined = (id: string) => fieldOf(changed, id)?.rule.combine;
  expect([combined('creditLimit'), combined('email')]).toEqual(['sum', undefined]);
  expect(fieldOf(changed, 'phone')).toBe(fieldOf(demo, 'phone'));
});

test('what a knot need not say is left out when it is emptied; what it must say stays', () => {
  const said = setKnot({ description: 'Everybody who buys', labels: ['sales'], owner: 'Ottilie' })(demo);
  expect(said).toMatchObject({ description: 'Everybody who buys', labels: ['sales'], owner: 'Ottilie' });
  const emptied = setKnot({ description: '', labels: [], owner: '', name: '' })(said);
  expect(['description', 'labels', 'owner'].filter((name) => name in emptied)).toEqual([]);
  expect(emptied.name).toBe('');
});

test('a knot over other objects keeps what is said of its members; who is not replaced stays', () => {
  const copied = withObjects(demo, { crm: { system: 'other', object: 'clients' } });
  expect(copied.members[0]).toEqual({ ...demo.members[0], system: 'other', object: 'clients' });
  expect(copied.members.slice(1)).toEqual(demo.members.slice(1));
});

test('a table of crosswalks names the fields that use it, and goes alone', () => {
  expect(usersOf(demo, 'customerGroups')).toEqual(['Customer group']);
  const gone = setCrosswalk('customerGroups', undefined)(demo);
  expect(gone.crosswalks).toEqual({});
  expect(usersOf(gone, 'nothing')).toEqual([]);
});
