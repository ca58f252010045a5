import fc from 'fast-check';
import { type FieldType, isBlank, normalise, type Raw, rawEqual, sameShared, type Shared } from '../record/index.js';
import { compileStep } from './compileStep.js';
import type { Crosswalk } from './crosswalk.js';
import { type Lens, makeLens } from './lens.js';
import type { Step, StepKind } from './step.js';

const groups: Crosswalk = {
  name: 'Groups',
  rows: [
    { shared: 'Growers', values: { crm: ['Grower, retail', 'Grower, trade'], shop: [7] } },
    { shared: 'Schools', values: { crm: ['School'], shop: [9] } },
    { shared: 'Parks', values: { crm: ['Park'], shop: [9] } },
  ],
};

function lensOf(type: FieldType, steps: readonly Step[], member = 'crm'): Lens {
  const compiled = steps.map((step) => {
    const lens = compileStep(step, member, { groups });
    if (!lens.ok) throw new Error(lens.reason);
    return lens.value;
  });
  return makeLens({ type, direction: 'both ways', steps: compiled, blankAs: null });
}

const names = fc.oneof(fc.string({ unit: 'grapheme', maxLength: 24 }), fc.string({ unit: fc.constantFrom('a', 'B', ' ', 'é', 'e\u0301', '…', 'ß', 'İ'), maxLength: 16 }));
const phones = fc.constantFrom(
  '+441632960417',
  '+441632960418',
  '+4930123456',
  '+12025550143',
  '+441632960417;ext=12',
  '01632 960417',
  '(01632) 960-417',
  '+44 1632 960418',
  'none',
  '12',
);
const numbers = fc.oneof(
  fc.integer({ min: -99999, max: 99999 }).map((n) => String(n / 1000)),
  fc.constantFrom('1,234.50', '12,5', '1e3', 'x', '0.005', '-0'),
);
const days = fc.date({ min: new Date('1950-01-01'), max: new Date('2050-01-01'), noInvalidDate: true }).map((date) => date.toISOString());

interface Case {
  readonly says: string;
  readonly type: FieldType;
  readonly steps: readonly Step[];
  readonly raws: fc.Arbitrary<Raw>;
  readonly values: fc.Arbitrary<string | boolean | string[] | null>;
  readonly member?: string;
}

const cases: readonly Case[] = [
  { says: 'rename only', type: 'text', steps: [], raws: names, values: names },
  { says: 'trim', type: 'text', steps: [{ kind: 'trim' }], raws: names, values: names },
  { says: 'lower case here', type: 'email', steps: [{ kind: 'case', side: 'shared', form: 'lower' }], raws: names, values: names.map((name) => name.toLowerCase()) },
  { says: 'upper case there', type: 'text', steps: [{ kind: 'case', side: 'member', form: 'upper' }], raws: names.map((name) => name.toUpperCase()), values: names },
  { says: 'cut', type: 'text', steps: [{ kind: 'cut', length: 5 }], raws: names, values: names },
  { says: 'cut with ellipsis', type: 'text', steps: [{ kind: 'cut', length: 5, ellipsis: true }], raws: names, values: names },
  { says: 'upper case and cut', type: 'text', steps: [{ kind: 'trim' }, { kind: 'case', side: 'member', form: 'upper' }, { kind: 'cut', length: 6 }], raws: names, values: names },
  { says: 'phone, national', type: 'phone', steps: [{ kind: 'phone', country: 'GB', form: 'national' }], raws: phones, values: phones },
  { says: 'phone, international', type: 'phone', steps: [{ kind: 'trim' }, { kind: 'phone', country: 'GB', form: 'international' }], raws: phones, values: phones },
  { says: 'phone, E.164', type: 'phone', steps: [{ kind: 'phone', country: 'GB', form: 'e164' }], raws: phones, values: phones },
  {
    says: 'country name',
    type: 'choice',
    steps: [{ kind: 'country', form: 'name' }],
    raws: fc.constantFrom('UK', 'United Kingdom', 'Germany', 'deu', 'Atlantis', 'GB'),
    values: fc.constantFrom('GB', 'DE', 'FR', 'XX'),
  },
  {
    says: 'country code of three',
    type: 'choice',
    steps: [{ kind: 'country', form: 'alpha3' }],
    raws: fc.constantFrom('GBR', 'GB', 'Wales', 'deu'),
    values: fc.constantFrom('GB', 'DE', 'FR'),
  },
  {
    says: 'crosswalk, several to one',
    type: 'choice',
    steps: [{ kind: 'crosswalk', table: 'groups' }],
    raws: fc.constantFrom('Grower, retail', 'Grower, trade', 'School', 'Zoo'),
    values: fc.constantFrom('Growers', 'Schools', 'Parks', 'Zoos'),
  },
  {
    says: 'crosswalk, one to several',
    type: 'choice',
    member: 'shop',
    steps: [{ kind: 'crosswalk', table: 'groups' }],
    raws: fc.constantFrom<Raw[]>(7, 9, '9', 11),
    values: fc.constantFrom('Growers', 'Schools', 'Parks'),
  },
  {
    says: 'yes/no words',
    type: 'yes/no',
    steps: [{ kind: 'yesNo', yes: ['Y', 'yes'], no: ['N', 'no'] }],
    raws: fc.constantFrom<Raw[]>('Y', 'YES', 'n', 'no', 'perhaps', true),
    values: fc.constantFrom(true, false),
  },
  { says: 'number with places', type: 'number', steps: [{ kind: 'number', places: 2 }], raws: numbers, values: numbers },
  {
    says: 'number in pence',
    type: 'number',
    steps: [{ kind: 'number', factor: '100', places: 0 }],
    raws: fc.oneof(fc.integer(), fc.constant({ $number: '12345678901234567890' })),
    values: numbers,
  },
  {
    says: 'number as text with a comma',
    type: 'number',
    steps: [{ kind: 'number', decimal: ',', places: 2, as: 'text' }],
    raws: numbers.map((text) => text.replace('.', ',')),
    values: numbers,
  },
  {
    says: 'bare number',
    type: 'number',
    steps: [],
    raws: fc.oneof(fc.double({ noNaN: true, noDefaultInfinity: true }), fc.constant({ $number: '1.10' }), numbers),
    values: numbers,
  },
  {
    says: 'date',
    type: 'date',
    steps: [{ kind: 'date', format: 'dd/MM/yyyy', to: 'date' }],
    raws: fc.constantFrom('31/12/2026', '1/1/2026', '31/02/2026', '29/02/2024'),
    values: days.map((day) => day.slice(0, 10)),
  },
  {
    says: 'instant without seconds, in a zone',
    type: 'instant',
    steps: [{ kind: 'date', format: 'yyyy-MM-dd HH:mm', zone: 'Europe/London', to: 'instant' }],
    raws: fc.constantFrom('2026-06-01 12:30', '2026-12-01 12:30', '2026-10-25 01:30', 'soon'),
    values: days,
  },
  {
    says: 'list in one text',
    type: 'list',
    steps: [{ kind: 'list', separator: ';' }],
    raws: fc.constantFrom('a;b', ' b ; a ', 'a', ';;'),
    values: fc.array(fc.constantFrom('a', 'b', 'c d', 'x;y'), { maxLength: 3 }),
  },
  {
    says: 'default when blank',
    type: 'text',
    steps: [{ kind: 'default', value: 'Unknown' }],
    raws: fc.constantFrom<Raw[]>('', null, 'x', 'Unknown'),
    values: fc.constantFrom('Unknown', 'x', null),
  },
  {
    says: 'formulas for both ways',
    type: 'text',
    steps: [{ kind: 'formula', inbound: 'value == null ? null : "k-" + value', outbound: 'replace(value, "k-", "")' }],
    raws: names,
    values: names.map((name) => `k-${name}`),
  },
];

/** Blank raw values and agreed values belong to every case. */
const withBlank = <T>(arbitrary: fc.Arbitrary<T>) => fc.oneof({ arbitrary, weight: 9 }, { arbitrary: fc.constantFrom<(null | '')[]>(null, ''), weight: 1 });

describe.each(cases)('a mapping by $says', ({ type, steps, raws, values, member }) => {
  const lens = lensOf(type, steps, member);
  const shared = withBlank(values).map((value): Shared => {
    const normal = normalise(type, value);
    return normal.ok ? normal.value : null;
  });

  test('means what we meant: inbound(outbound(v, raw), v) = v', () => {
    let written = 0;
    fc.assert(
      fc.property(shared, fc.option(withBlank(raws), { nil: undefined }), (value, raw) => {
        const out = lens.outbound(value, raw);
        if (!out.ok) return;
        written += 1;
        const back = lens.inbound(out.value, value);
        expect(back.ok && sameShared(back.value, value)).toBe(true);
      }),
      { numRuns: 300 },
    );
    expect(written).toBeGreaterThan(30);
  });

  test('changes nothing when what was read is written back: outbound(inbound(raw, a), raw) = raw', () => {
    let read = 0;
    fc.assert(
      fc.property(withBlank(raws), fc.option(shared, { nil: undefined }), (raw, agreed) => {
        const value = lens.inbound(raw, agreed);
        if (!value.ok) return;
        read += 1;
        const back = lens.outbound(value.value, raw);
        expect(back.ok && (rawEqual(back.value, raw) || (isBlank(back.value) && isBlank(raw)))).toBe(true);
      }),
      { numRuns: 300 },
    );
    expect(read).toBeGreaterThan(30);
  });
});

test('every kind of step that runs both ways is under the laws', () => {
  const tested = new Set<StepKind>(cases.flatMap(({ steps }) => steps.map(({ kind }) => kind)));
  const kinds: Record<StepKind, boolean> = {
    trim: true,
    case: true,
    cut: true,
    phone: true,
    country: true,
    crosswalk: true,
    yesNo: true,
    number: true,
    date: true,
    list: true,
    default: true,
    constant: false,
    formula: true,
  };
  expect([...tested].sort()).toEqual(
    Object.keys(kinds)
      .filter((kind) => kinds[kind as StepKind])
      .sort(),
  );
});

describe('narrower forms lose nothing', () => {
  test('a name cut at 10 characters still means the whole name, and an edit inside it keeps the tail', () => {
    const lens = lensOf('text', [{ kind: 'cut', length: 10 }]);
    expect(lens.inbound('Osprey & D', 'Osprey & Daughters')).toEqual({ ok: true, value: 'Osprey & Daughters' });
    expect(lens.inbound('Ospray & D', 'Osprey & Daughters')).toEqual({ ok: true, value: 'Ospray & Daughters' });
    expect(lens.inbound('Osprey', 'Osprey & Daughters')).toEqual({ ok: true, value: 'Osprey' });
  });
  test('of two groups that mean the same, a record keeps its own', () => {
    const lens = lensOf('choice', [{ kind: 'crosswalk', table: 'groups' }]);
    expect(lens.outbound('Growers', 'Grower, trade')).toEqual({ ok: true, value: 'Grower, trade' });
    expect(lens.outbound('Growers', 'School')).toEqual({ ok: true, value: 'Grower, retail' });
  });
  test('an unreadable phone number says where', () => {
    expect(lensOf('phone', [{ kind: 'phone', country: 'GB', form: 'national' }]).inbound('01632 96O417', undefined)).toEqual({
      ok: false,
      reason: '“01632 96O417” is not a phone number: letter O at place 9',
    });
  });
});
