/** A definition tried on whole objects: what is counted, and how the records would belong together. */
import { compileKnot, type Knot, type Mapping, type SharedField } from '../definition/index.js';
import { finished } from '../identity/index.js';
import { recordKey, type Raw, type SourceRecord } from '../record/index.js';
import { mapping } from '../testing/mapping.js';
import { surveyIdentity } from './identitySurvey.js';
import { KnotSurvey } from './survey.js';
import { tryCheck } from './tryFormulas.js';

const field = (id: string, type: SharedField['type'], mappings: SharedField['mappings']): SharedField => ({
  id,
  name: id,
  type,
  rule: { steps: [{ step: 'ask' }] },
  mappings,
});
const knot: Knot = {
  id: 'k',
  name: 'K',
  thing: 'thing',
  titleField: 'name',
  start: 'merge',
  members: ['crm', 'shop'].map((id) => ({
    id,
    system: id,
    object: 'o',
    may: { create: true, update: true },
    startsAnchors: id === 'crm',
    required: [],
    guards: {},
    ...(id === 'crm' ? { filter: 'record.name != "out" && number(record.size) >= 0' } : {}),
  })),
  fields: [
    field('name', 'text', { crm: mapping('name'), shop: mapping('title') }),
    field('mail', 'email', {
      crm: mapping('mail', 'both ways', [{ kind: 'email' }]),
      shop: mapping('mail', 'both ways', [{ kind: 'email' }]),
    }),
    field('group', 'choice', {
      crm: mapping('group', 'both ways', [{ kind: 'crosswalk', table: 'groups' }]),
      shop: mapping('group', 'to'),
    }),
  ],
  keyRules: [
    { name: 'Mail', fields: [{ field: 'mail', normalise: 'email' }] },
    { name: 'Name', fields: [{ field: 'name', normalise: 'text' }] },
  ],
  checks: [
    { id: 'short', formula: 'length(name) <= 5', says: 'too long', onFail: 'reject' },
    { id: 'once', unique: 'name', says: 'twice', onFail: 'reject', members: ['crm'] },
  ],
  crosswalks: { groups: { name: 'Groups', rows: [{ shared: 'Growers', values: { crm: ['G'] } }] } },
};
const record = (key: string, fields: Record<string, Raw>): SourceRecord => ({
  key: recordKey(key),
  fields: { size: '1', ...fields },
});

function surveyed() {
  const survey = new KnotSurvey(knot, 0);
  survey.add('crm', [
    record('1', { name: 'Ada', mail: 'a@x.example', group: 'G' }),
    record('2', { name: 'Bramwell', mail: 'b@x.example', group: 'Z' }),
  ]);
  survey.add('crm', [
    record('3', { name: 'Ada', mail: 'none', group: 'Z' }),
    record('4', { name: 'out' }),
    record('5', { name: 'odd', size: 'large' }),
  ]);
  survey.add('shop', [
    record('11', { title: 'Ada', mail: 'A@x.example' }),
    record('12', { title: 'bramwell ', mail: null }),
    record('13', { title: 'Vera', mail: 'v@x.example' }),
  ]);
  return survey;
}

test('who takes part is counted with examples on both sides; where the filter fails is told', () => {
  expect(surveyed().member('crm')).toMatchObject({
    records: 5,
    takePart: 3,
    filterFails: 1,
    filterReason: expect.stringContaining('“large” is not a number') as string,
    inside: [{ key: '1', title: 'Ada' }, { key: '2', title: 'Bramwell' }, { key: '3' }],
    outside: [{ key: '4', title: 'out' }, { key: '5' }],
  });
});

test('what cannot be read is counted where it is, with the reason; records that take no part do not count', () => {
  const { cells, unknownValues } = surveyed().member('crm') ?? {};
  expect(cells?.mail).toMatchObject({
    filled: 3,
    unreadable: 1,
    reasons: [expect.stringContaining('none')],
    examples: [{ key: '3' }],
  });
  expect(cells?.group).toMatchObject({ filled: 3, unreadable: 2 });
  expect(unknownValues).toEqual([{ table: 'groups', value: 'Z', count: 2 }]);
  // A member that only receives has nothing to be read.
  expect(surveyed().member('shop')?.cells).not.toHaveProperty('group');
});

test('of equal values both records fail a unique check, whatever page they came on', () => {
  expect(surveyed().member('crm')?.checks).toMatchObject({
    short: { fails: 1, examples: [{ key: '2' }] },
    once: { fails: 2 },
  });
  expect(surveyed().member('shop')?.checks).toEqual({
    short: { fails: 1, examples: [{ key: '12', title: 'bramwell ' }] },
  });
});

test('key rules are tried in their order over all members, each on what the one before left', () => {
  expect(finished(surveyIdentity(knot, surveyed().records()))).toEqual({
    rules: [
      { name: 'Mail', ties: 2, repeated: 0, without: 2, examples: ['a@x.example'] },
      { name: 'Name', ties: 2, repeated: 1, without: 0, examples: ['bramwell'] },
    ],
    together: 2,
    // Nothing may start in the shop, so its third record stays out.
    alone: 1,
    waiting: 1,
  });
});

test('an unfinished definition is tried as far as it goes', () => {
  const unfinished = { ...knot, keyRules: [{ name: 'None', fields: [] }] };
  const survey = new KnotSurvey(
    { ...unfinished, checks: [{ id: 'bad', formula: 'gone + 1', says: 'x', onFail: 'stop' }], titleField: '' },
    0,
  );
  survey.add('shop', [record('11', { title: 'Ada' })]);
  expect(survey.member('shop')).toMatchObject({ takePart: 1, checks: { bad: { fails: 0 } } });
  expect(finished(surveyIdentity(unfinished, survey.records()))).toEqual({
    rules: [],
    together: 0,
    alone: 1,
    waiting: 0,
  });
});

test('a survey judges as a run does: unreadable, absent and defaulted values, in every way of trying', () => {
  const defaulted: Mapping = {
    ...mapping('title', 'both ways', [{ kind: 'default', value: 'nobody' }]),
    absentMeansBlank: true,
  };
  const tried: Knot = {
    ...knot,
    fields: knot.fields.map((one) =>
      one.id === 'name' ? { ...one, mappings: { ...one.mappings, shop: defaulted } } : one,
    ),
    checks: [
      { id: 'mail', formula: 'mail != null', says: 'no mail', onFail: 'reject' },
      { id: 'name', formula: 'name != null', says: 'no name', onFail: 'reject' },
      { id: 'once', unique: 'name', says: 'twice', onFail: 'reject' },
    ],
  };
  const compiled = compileKnot(tried);
  if (!compiled.ok) throw new Error(JSON.stringify(compiled.problems));
  const records = [
    record('1', { title: 'Ada', mail: 'not an address' }),
    record('2', { mail: 'v@x.example' }),
    record('3', { title: null }),
  ];
  const survey = new KnotSurvey(tried, 0);
  survey.add('shop', records);
  const raws = records.map((one) => compiled.knot.rawFields('shop', one));
  const failing = raws.flatMap((fields) => compiled.knot.failedChecks('shop', fields).says);
  const names = raws.map((fields) => compiled.knot.uniqueValues('shop', fields)[0]?.value);
  const repeated = names.filter((name, place) => names.some((other, at) => at !== place && other === name)).length;
  const { checks } = survey.member('shop') ?? {};
  // Of what cannot be read no check says that it is empty.
  expect(checks?.mail?.fails).toBe(1);
  for (const check of tried.checks) {
    const { fails } = checks?.[check.id] ?? { fails: -1 };
    const ofRun = 'unique' in check ? repeated : failing.filter((says) => says === check.says).length;
    const passes = tryCheck(
      tried,
      check,
      'shop',
      records.map(({ fields }) => fields),
    );
    expect([check.id, fails]).toEqual([check.id, ofRun]);
    expect(passes.ok && passes.value.passes.filter((passed) => !passed).length).toBe(ofRun);
  }
});
