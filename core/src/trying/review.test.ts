/** What keeps a definition from going live, and what would surprise, found before anything is written. */
import { recordKeyPath, type Knot, type Mapping, type SharedField } from '../definition/index.js';
import type { Raw } from '../record/index.js';
import { mapping } from '../testing/mapping.js';
import { type MemberSource, reviewKnot } from './review.js';
import { tryFilter } from './tryFormulas.js';

const field = (
  id: string,
  type: SharedField['type'],
  crm: Mapping | undefined,
  erp: Mapping | undefined,
  more: Partial<SharedField> = {},
): SharedField => ({
  id,
  name: id,
  type,
  rule: { steps: [{ step: 'ask' }] },
  mappings: { ...(crm ? { crm } : {}), ...(erp ? { erp } : {}) },
  ...more,
});
const knot = (fields: readonly SharedField[]): Knot => ({
  id: 'k',
  name: 'K',
  thing: 'thing',
  titleField: 'key',
  start: 'merge',
  members: ['crm', 'erp'].map((id) => ({
    id,
    system: id,
    object: 'o',
    may: { create: true, update: true },
    startsAnchors: true,
    required: [],
    guards: {},
  })),
  fields: [field('key', 'text', mapping('id'), mapping('no')), ...fields],
  keyRules: [{ name: 'Key', fields: [{ field: 'key', normalise: 'exact' }] }],
  checks: [],
  crosswalks: {},
});
const source = (fields: MemberSource['fields'], records: readonly Record<string, Raw>[]): MemberSource => ({
  fields,
  key: 'id',
  records,
});
const text = (path: string, more: Partial<MemberSource['fields'][number]> = {}): MemberSource['fields'][number] => ({
  path,
  type: 'text',
  ...more,
});
const crm = source(
  [text('id', { required: true }), text('name'), text('phone'), text('size')],
  [
    { id: '1', name: 'Oakridge Nurseries', phone: '01632 960417', size: '12' },
    { id: '2', name: 'Fernhill', phone: 'none', size: 'large' },
  ],
);
const erp = (...fields: MemberSource['fields']): MemberSource => source([text('no'), ...fields], [{ no: '1' }]);
const at = (fields: readonly SharedField[], sources: Record<string, MemberSource>): string[] =>
  reviewKnot(knot(fields), sources).map((one) => `${one.kind} ${one.at}: ${one.says}`);

test.each<[string, SharedField, MemberSource, string]>([
  [
    'a field that has gone',
    field('a', 'text', mapping('gone'), undefined),
    erp(),
    'warns fields.a.mappings.crm: “gone” is not among the fields',
  ],
  [
    'a field that can only be read',
    field('a', 'text', mapping('name'), mapping('label', 'to')),
    erp(text('label', { readOnly: true })),
    'stops fields.a.mappings.erp: “label” can only be read there',
  ],
  [
    'a field that is required and not given',
    field('a', 'text', mapping('name'), undefined),
    erp(text('vat', { required: true })),
    'warns members.erp: nothing can be created there: “vat” is required',
  ],
  [
    'values that cannot be read',
    field('a', 'phone', mapping('phone', 'from', [{ kind: 'phone', country: 'GB', form: 'national' }]), undefined),
    erp(),
    'warns fields.a.mappings.crm: 1 of 2 values looked at cannot be read: “none” is not a phone number',
  ],
  [
    'a text that will be cut',
    field('a', 'text', mapping('name'), mapping('label', 'to')),
    erp(text('label', { longest: 10 })),
    'there is room for 10 characters, and values have up to 18',
  ],
  [
    'types that do not meet',
    field('a', 'text', mapping('size'), mapping('size', 'to')),
    erp({ path: 'size', type: 'number' }),
    'of the type number, and “large” would be written',
  ],
  [
    'a translation that never settles',
    field(
      'a',
      'text',
      mapping('name'),
      mapping('label', 'both ways', [{ kind: 'formula', inbound: 'lower(value)', outbound: 'upper(value)' }]),
    ),
    erp(text('label')),
    'cannot be held there: it would read back as oakridge nurseries',
  ],
  [
    'a computed text that will be cut',
    field('a', 'text', undefined, mapping('label', 'to'), { formula: 'key + ": a long label"' }),
    erp(text('label', { longest: 10 })),
    'there is room for 10 characters, and values have up to 15',
  ],
])('%s is told at its place', (_, one, there, words) => {
  expect(at([one], { crm, erp: there }).join('\n')).toContain(words);
});

test('nothing is said of what is in order: the own key, a cut text, a number that fits', () => {
  const fields = [
    field('ref', 'text', mapping(recordKeyPath, 'from'), mapping('ref', 'to')),
    field('name', 'text', mapping('name'), mapping('label', 'both ways', [{ kind: 'cut', length: 10 }])),
  ];
  expect(at(fields, { crm, erp: erp(text('ref'), text('label', { longest: 10 })) })).toEqual([]);
});

const noon = Date.UTC(2026, 10, 24, 12);

test('a check that every record of a member fails is told, one that some fail is not', () => {
  const checked = {
    ...knot([field('name', 'text', mapping('name'), undefined)]),
    checks: [{ id: 'named', formula: 'name != null', says: 'no name', onFail: 'reject' as const }],
  };
  expect(reviewKnot(checked, { crm, erp: erp() })).toEqual([
    { kind: 'warns', at: 'checks.named', says: expect.stringContaining('every record of erp') as string },
  ]);
  expect(
    reviewKnot(
      { ...checked, checks: [{ ...(checked.checks[0] as (typeof checked.checks)[number]), members: ['crm'] }] },
      { crm, erp: erp() },
    ),
  ).toEqual([]);
});

test(
  'a filter is tried on the records that are there; one that fails on some says why, one that is ' + 'none says so',
  () => {
    expect(tryFilter('record.name == "Fernhill"', crm.records, noon)).toEqual({
      ok: true,
      value: { passes: [false, true], trouble: undefined },
    });
    expect(tryFilter('number(record.size) > 3', crm.records, noon)).toMatchObject({
      ok: true,
      value: { passes: [true, false], trouble: expect.stringContaining('“large”') as string },
    });
    expect(tryFilter('record.name ==', crm.records, noon)).toMatchObject({ ok: false });
    expect(tryFilter(`"${'x'.repeat(50_000)}"`, crm.records, noon)).toMatchObject({
      ok: false,
      reason: 'the formula has 50002 characters; 4000 are allowed',
    });
    expect(
      tryFilter('daysBetween(record.since, today) <= 30', [{ since: '2026-11-01' }, { since: '2026-09-01' }], noon),
    ).toMatchObject({
      ok: true,
      value: { passes: [true, false] },
    });
    expect(tryFilter('1 / 0 > 1', crm.records, noon)).toMatchObject({ ok: true, value: { passes: [false, false] } });
  },
);

test('a crosswalk with a value twice: a shared one stops, a member’s says what it means', () => {
  const rows = [
    { shared: 'Growers', values: { crm: ['G', 'X'] } },
    { shared: 'Schools', values: { crm: ['S', 'X'] } },
    { shared: 'Growers', values: { erp: [7] } },
  ];
  const found = reviewKnot({ ...knot([]), crosswalks: { groups: { name: 'Groups', rows } } }, {}).filter(
    (one) => one.at === 'crosswalks.groups',
  );
  expect(found.map(({ kind, says }) => [kind, says])).toEqual([
    ['stops', 'two rows have the shared value “Growers”: put their values into one'],
    [
      'warns',
      '“X” of crm stands in several rows (Growers, Schools): it means the agreed one of them, and Growers ' +
        'where none is',
    ],
  ]);
});

test('types that do not meet in formulas, and what they give where another type is wanted, are told', () => {
  const size = field('size', 'number', mapping('size'), undefined);
  const found = reviewKnot(
    {
      ...knot([
        size,
        field('a', 'number', undefined, undefined, { formula: 'upper(key)' }),
        field('b', 'text', undefined, undefined, { formula: 'key * size' }),
      ]),
      checks: [{ id: 'c', formula: 'size + 1', says: 'no', onFail: 'reject' }],
    },
    {},
  );
  expect(found.filter(({ kind }) => kind === 'warns').map(({ at: place, says }) => `${place}: ${says}`)).toEqual([
    'fields.a.formula: it gives text, and number is wanted here',
    expect.stringContaining('fields.b.formula: text * number is not possible') as string,
    'checks.c.formula: it gives number, and yes/no is wanted here',
  ]);
});
