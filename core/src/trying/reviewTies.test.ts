/** What can never happen by a definition is said before it is in force, and nothing that can happen is. */
import type { Knot, Mapping, Member } from '../definition/index.js';
import { mapping } from '../testing/mapping.js';
import { reviewTies } from './reviewTies.js';

const member = (id: string, more: Partial<Member> = {}): Member => ({
  id,
  system: id,
  object: 'o',
  may: { create: false, update: true },
  startsAnchors: true,
  required: [],
  guards: {},
  ...more,
});
const field = (id: string, ...members: string[]): Knot['fields'][number] => ({
  id,
  name: id,
  type: 'text',
  rule: { steps: [{ step: 'ask' }] },
  mappings: Object.fromEntries(members.map((one) => [one, mapping(id)])),
});
const knot = (more: Partial<Knot> = {}): Knot => ({
  id: 'k',
  name: 'K',
  thing: 'customer',
  titleField: 'mail',
  start: 'merge',
  members: [member('crm'), member('erp')],
  fields: [field('mail', 'crm', 'erp'), field('town', 'crm', 'erp')],
  keyRules: [{ name: 'Mail', fields: [{ field: 'mail', normalise: 'email' }] }],
  checks: [],
  crosswalks: {},
  ...more,
});
const places = (more: Partial<Knot> = {}): string[] => reviewTies(knot(more)).map(({ at }) => at);

test('nothing is said where a key is mapped on both sides and one of them starts things', () => {
  expect(places()).toEqual([]);
  expect(places({ members: [member('crm'), member('erp', { startsAnchors: false })] })).toEqual([]);
});

test('a knot in which nothing may begin says so', () => {
  const none = [member('crm', { startsAnchors: false }), member('erp', { startsAnchors: false })];
  expect(reviewTies(knot({ members: none }))).toEqual([
    { kind: 'warns', at: 'members', says: expect.stringContaining('no member may start a new customer') },
  ]);
});

test('who loses the mapping of its key is named, and so is who is left alone with it', () => {
  const fields = [field('mail', 'crm'), field('town', 'crm', 'erp')];
  expect(places({ fields })).toEqual(['members.crm', 'members.erp']);
  const third = [member('crm'), member('erp'), member('shop')];
  expect(places({ members: third, fields: [field('mail', 'crm', 'shop'), field('town', 'crm', 'erp')] })).toEqual([
    'members.erp',
  ]);
});

test('a key of several fields needs all of them; evidence needs one', () => {
  const fields = [field('mail', 'crm', 'erp'), field('town', 'crm')];
  const both = [
    {
      name: 'Mail and town',
      fields: [
        { field: 'mail', normalise: 'email' as const },
        { field: 'town', normalise: 'text' as const },
      ],
    },
  ];
  expect(places({ fields, keyRules: both })).toEqual(['members.crm', 'members.erp']);
  const evidence = {
    fields: [{ name: 'Mail, town', fields: ['mail', 'town'], compare: 'text' as const }],
    thresholds: { upper: 10, lower: 5 },
  };
  expect(places({ fields, keyRules: both, evidence })).toEqual([]);
});

test('a mapping that only writes ties nothing, unless it says how its values are compared', () => {
  const writesOnly = { ...mapping('mail'), direction: 'to' as const, steps: [{ kind: 'hash' as const }] };
  const withErp = (erp: typeof writesOnly | Mapping): Knot['fields'] => [
    { ...field('mail', 'crm'), mappings: { crm: mapping('mail'), erp } },
  ];
  expect(places({ fields: withErp(writesOnly) })).toEqual(['members.crm', 'members.erp']);
  expect(places({ fields: withErp({ ...writesOnly, compare: [{ kind: 'trim' }] }) })).toEqual([]);
  const computed = { ...field('mail'), formula: 'town' };
  expect(places({ fields: [computed, field('town', 'crm', 'erp')] })).toEqual([]);
});

test('what follows for records that are there is said where they begin things of their own', () => {
  const [first] = reviewTies(knot({ keyRules: [] }));
  expect(first?.says).toContain('would be a customer of its own');
  const silent = [member('crm'), member('erp', { startsAnchors: false })];
  expect(reviewTies(knot({ keyRules: [], members: silent }))[1]?.says).not.toContain('of its own');
});
