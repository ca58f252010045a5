import fc from 'fast-check';
import { Settings } from 'luxon';
import {
  anchorId,
  type FieldType,
  isBlank,
  normalise,
  type Raw,
  rawEqual,
  sameShared,
  type Shared,
} from '../record/index.js';
import { compileStep } from './compileStep.js';
import type { Crosswalk } from './crosswalk.js';
import { type Lens, makeLens } from './lens.js';
import { LookUps } from './lookUps.js';
import type { Step, StepKind } from './step.js';

const groups: Crosswalk = {
  name: 'Groups',
  rows: [
    { shared: 'Growers', values: { crm: ['Grower, retail', 'Grower, trade'], shop: [7] } },
    { shared: 'Schools', values: { crm: ['School'], shop: [9] } },
    { shared: 'Parks', values: { crm: ['Park'], shop: [9] } },
  ],
};

const customers = new LookUps(
  [1, 2, 3].map((number) => ({
    knot: 'customers',
    by: { member: 'crm' },
    value: `A-${number}`,
    anchor: anchorId(`thing ${number}`),
  })),
);

function lensOf(type: FieldType, steps: readonly Step[], member = 'crm'): Lens {
  const compiled = steps.map((step) => {
    const lens = compileStep(step, member, { groups }, { knot: 'customers', references: customers });
    if (!lens.ok) throw new Error(lens.reason);
    return lens.value;
  });
  return makeLens({ type, direction: 'both ways', steps: compiled, blankAs: null });
}

const names = fc.oneof(
  fc.string({ unit: 'grapheme', maxLength: 24 }),
  fc.string({ unit: fc.constantFrom('a', 'B', ' ', 'é', 'e\u0301', '…', 'ß', 'İ'), maxLength: 16 }),
);
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
const days = fc
  .date({ min: new Date('1950-01-01'), max: new Date('2050-01-01'), noInvalidDate: true })
  .map((date) => date.toISOString());

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
  {
    says: 'lower case here',
    type: 'email',
    steps: [{ kind: 'case', side: 'shared', form: 'lower' }],
    raws: names,
    values: names.map((name) => name.toLowerCase()),
  },
  {
    says: 'upper case there',
    type: 'text',
    steps: [{ kind: 'case', side: 'member', form: 'upper' }],
    raws: names.map((name) => name.toUpperCase()),
    values: names,
  },
  { says: 'cut', type: 'text', steps: [{ kind: 'cut', length: 5 }], raws: names, values: names },
  {
    says: 'cut with ellipsis',
    type: 'text',
    steps: [{ kind: 'cut', length: 5, ellipsis: true }],
    raws: names,
    values: names,
  },
  {
    says: 'upper case and cut',
    type: 'text',
    steps: [{ kind: 'trim' }, { kind: 'case', side: 'member', form: 'upper' }, { kind: 'cut', length: 6 }],
    raws: names,
    values: names,
  },
  {
    says: 'phone, national',
    type: 'phone',
    steps: [{ kind: 'phone', country: 'GB', form: 'national' }],
    raws: phones,
    values: phones,
  },
  {
    says: 'phone, international',
    type: 'phone',
    steps: [{ kind: 'trim' }, { kind: 'phone', country: 'GB', form: 'international' }],
    raws: phones,
    values: phones,
  },
  {
    says: 'phone, E.164',
    type: 'phone',
    steps: [{ kind: 'phone', country: 'GB', form: 'e164' }],
    raws: phones,
    values: phones,
  },
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
  {
    says: 'number with places',
    type: 'number',
    steps: [{ kind: 'number', places: 2 }],
    raws: numbers,
    values: numbers,
  },
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
    says: 'padded number',
    type: 'text',
    steps: [{ kind: 'pad', length: 6, with: '0', side: 'start' }],
    raws: fc.constantFrom('000417', '417', '000000', '1234567', '00x', '0'),
    values: fc.constantFrom('417', '0', '1234567', '0417', '12'),
  },
  {
    says: 'text filled up at its end',
    type: 'text',
    steps: [{ kind: 'trim' }, { kind: 'pad', length: 8, with: '.', side: 'end' }],
    raws: fc.constantFrom('kit.....', 'kit', '........', 'longer than 8', 'a.b'),
    values: fc.constantFrom('kit', 'a.b', 'kit.', 'longer than 8'),
  },
  {
    says: 'one text for another',
    type: 'text',
    steps: [{ kind: 'replace', find: '/', by: '-' }],
    raws: fc.constantFrom('a/b', 'a-b', 'a', '//', 'a/b-c'),
    values: fc.constantFrom('a-b', 'a/b', 'a', '--'),
  },
  {
    says: 'a text taken out',
    type: 'text',
    steps: [{ kind: 'replace', find: ' ', by: '' }],
    raws: fc.constantFrom('AB 12', 'AB12', 'A  B'),
    values: fc.constantFrom('AB12', 'A B', 'x'),
  },
  {
    says: 'one part of several',
    type: 'text',
    steps: [{ kind: 'part', layout: '{street}, {town} ({county})', part: 'town' }],
    raws: fc.constantFrom('Mill Lane 4, Thornquay (Kent)', 'Mill Lane 4, Thornquay', ', (x)', 'a, b (c)', 'a, , b (c)'),
    values: fc.constantFrom('Thornquay', 'Great Thornquay', 'a (b', '', 'c'),
  },
  {
    says: 'fixed text around it',
    type: 'text',
    steps: [{ kind: 'part', layout: 'Kit {name}.', part: 'name' }],
    raws: fc.constantFrom('Kit Acorn.', 'Acorn', 'Kit .', 'Kit Acorn 8x6.'),
    values: fc.constantFrom('Acorn', 'Acorn 8x6', '.', 'Kit'),
  },
  ...(['salutation', 'given', 'middle', 'family', 'suffix'] as const).map((part): Case => ({
    says: `person name, ${part}`,
    type: 'text',
    steps: [{ kind: 'personName', part }],
    raws: fc.constantFrom(
      'Dr. Ada B. Lovelace, III',
      'Lovelace, Ada',
      'Ada Lovelace',
      'Ada',
      'Mr Jan van der Berg',
      '  ada  lovelace ',
    ),
    values: fc.constantFrom('Ada', 'Lovelace', 'van der Berg', 'Dr.', 'III', 'B.', 'Ann Marie'),
  })),
  ...(['street', 'town', 'postcode', 'country'] as const).map((part): Case => ({
    says: `address, ${part}`,
    type: 'text',
    steps: [{ kind: 'address', part, country: 'GB' }],
    raws: fc.constantFrom(
      '12 Saltpan Lane, Thornquay HZ4 8QD',
      'Unit 3, 12 Saltpan Lane\nThornquay\nHZ4 8QD\nUnited Kingdom',
      'Thornquay',
      '12 Saltpan Lane, Thornquay',
      '9 Quay, Thornquay HZ4 8QD, Ireland',
      ', ,',
    ),
    values:
      part === 'country'
        ? fc.constantFrom('Ireland', 'France', 'Germany', 'x, y')
        : fc.constantFrom('9 Mill Street', 'Oakridge', 'AB1 2CD', 'Ireland', 'x, y'),
  })),
  {
    says: 'email',
    type: 'email',
    steps: [{ kind: 'email' }],
    raws: fc.constantFrom('Ada@Example.com', 'Ada Lovelace <ada@x.example>', 'mailto:a@b.example', 'none', 'a@b'),
    values: fc.constantFrom('ada@example.com', 'a@b.example', 'not one', 'x@y.example'),
  },
  {
    says: 'money with its symbol',
    type: 'number',
    steps: [{ kind: 'money', currency: 'GBP', locale: 'en-GB', show: 'symbol' }],
    raws: fc.oneof(
      fc.constantFrom<Raw[]>(
        '£1,250.50',
        '-£3.00',
        'GBP 12',
        '1250.5',
        12.5,
        '€3.00',
        '1,2',
        '£12345678901234567890.12',
      ),
      numbers,
    ),
    values: numbers,
  },
  {
    says: 'money of another country, by its code',
    type: 'number',
    steps: [{ kind: 'money', currency: 'EUR', locale: 'de-DE', show: 'code', rounding: 'half even' }],
    raws: fc.constantFrom('1.250,50 EUR', '1.250,50\u00a0EUR', '12,5', '12.5', '1.250', '-3,00 EUR', 'EUR'),
    values: numbers,
  },
  {
    says: 'money without decimal places, bare',
    type: 'number',
    steps: [{ kind: 'money', currency: 'JPY', locale: 'ja-JP', show: 'number', rounding: 'down' }],
    raws: fc.constantFrom('12,500', '¥300', '300.5', '-1'),
    values: numbers,
  },
  {
    says: 'number with fewer places, rounded up',
    type: 'number',
    steps: [{ kind: 'number', places: 1, rounding: 'up' }],
    raws: numbers,
    values: numbers,
  },
  {
    says: 'path into a list',
    type: 'text',
    steps: [{ kind: 'path', path: 'contacts.0.email' }],
    raws: fc.constantFrom<Raw[]>(
      { contacts: [{ email: 'a' }, { email: 'b' }], main: true },
      { contacts: [] },
      {},
      { contacts: 'none' },
      { contacts: [{ name: 'x' }] },
      'text',
    ),
    values: fc.constantFrom('a', 'b', 'c'),
  },
  {
    says: 'web link',
    type: 'text',
    steps: [{ kind: 'link', address: 'https://crm.example/records/{key}?view=full' }],
    raws: fc.constantFrom(
      'https://crm.example/records/A%2F1?view=full',
      'https://crm.example/records/A-1?view=full',
      'https://crm.example/',
      'A-1',
      'https://crm.example/records/%E0%A4%A?view=full',
    ),
    values: fc.constantFrom('A-1', 'A/1', 'ä ö', '100%'),
  },
  {
    says: 'default when blank',
    type: 'text',
    steps: [{ kind: 'default', value: 'Unknown' }],
    raws: fc.constantFrom<Raw[]>('', null, 'x', 'Unknown'),
    values: fc.constantFrom('Unknown', 'x', null),
  },
  {
    says: 'reference, with blank for what is not known',
    type: 'reference',
    steps: [{ kind: 'trim' }, { kind: 'reference', by: { member: 'crm' }, notFound: 'blank' }],
    raws: fc.constantFrom('A-1', ' A-2 ', 'A-9', 'a-1'),
    values: fc.constantFrom('thing 1', 'thing 2', 'thing 3'),
  },
  {
    says: 'reference, with another thing instead of what is not known',
    type: 'reference',
    steps: [{ kind: 'reference', by: { member: 'crm' }, notFound: { instead: anchorId('thing 3') } }],
    raws: fc.constantFrom('A-1', 'A-3', 'A-9'),
    values: fc.constantFrom('thing 1', 'thing 2', 'thing 3'),
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
const withBlank = <T>(arbitrary: fc.Arbitrary<T>) =>
  fc.oneof({ arbitrary, weight: 9 }, { arbitrary: fc.constantFrom<(null | '')[]>(null, ''), weight: 1 });

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
    pad: true,
    replace: true,
    part: true,
    personName: true,
    address: true,
    email: true,
    money: true,
    path: true,
    link: true,
    hash: false,
    constant: false,
    reference: true,
    formula: true,
  };
  expect([...tested].sort()).toEqual(
    Object.keys(kinds)
      .filter((kind) => kinds[kind as StepKind])
      .sort(),
  );
});

describe('a part of what is there', () => {
  test.each<[Step, Raw, string | null, Raw]>([
    [
      { kind: 'part', layout: '{street}, {town}', part: 'town' },
      'Mill Lane 4, Thornquay',
      'Oakridge',
      'Mill Lane 4, Oakridge',
    ],
    [{ kind: 'personName', part: 'given' }, 'Dr. Ada  Lovelace', 'Grace', 'Dr. Grace  Lovelace'],
    [{ kind: 'personName', part: 'family' }, 'Lovelace, Ada', 'Hopper', 'Hopper, Ada'],
    [
      { kind: 'address', part: 'town', country: 'GB' },
      '12 Saltpan Lane, Thornquay HZ4 8QD',
      'Oakridge',
      '12 Saltpan Lane, Oakridge HZ4 8QD',
    ],
    [
      { kind: 'address', part: 'postcode', country: 'DE' },
      'Hauptstr. 12345, 10115 Berlin, Germany',
      '20095',
      'Hauptstr. 12345, 20095 Berlin, Germany',
    ],
    [
      { kind: 'path', path: 'contacts.1.email' },
      { contacts: [{ email: 'a' }, { email: 'b', main: true }] },
      'c',
      { contacts: [{ email: 'a' }, { email: 'c', main: true }] },
    ],
    [{ kind: 'path', path: 'email' }, { email: 'a', phone: '1' }, null, { email: null, phone: '1' }],
  ])('%j on %j, given %j, writes %j', (step, raw, value, written) => {
    expect(lensOf('text', [step]).outbound(value, raw)).toEqual({ ok: true, value: written });
  });
  test('what cannot be put anywhere is said, and nothing is written over', () => {
    expect(
      lensOf('text', [{ kind: 'part', layout: '{street}, {town}', part: 'town' }]).outbound('Oakridge', undefined),
    ).toMatchObject({ ok: false });
    expect(lensOf('text', [{ kind: 'path', path: 'contacts.3.email' }]).outbound('a', { contacts: [] })).toMatchObject({
      ok: false,
      reason: 'there is a list of 0 there, and no place 3 in it',
    });
  });
});

test('what runs one way is written once, and is known when it is there', () => {
  for (const step of [
    { kind: 'constant', value: 'web' },
    { kind: 'hash', salt: 's' },
  ] satisfies Step[]) {
    const compiled = compileStep(step, 'crm', {});
    if (!compiled.ok) throw new Error(compiled.reason);
    const lens = makeLens({ type: 'text', direction: 'to', steps: [compiled.value], blankAs: null });
    const out = lens.outbound('ada@x.example', 'something else');
    if (!out.ok) throw new Error(out.reason);
    expect(lens.means(out.value, 'ada@x.example')).toBe(true);
    expect(lens.means('something else', 'ada@x.example')).toBe(false);
  }
});

test('a hash is SHA-256 as in FIPS 180-4', () => {
  const compiled = compileStep({ kind: 'hash' }, 'crm', {});
  expect(compiled.ok && compiled.value.outbound?.('abc')).toEqual({
    ok: true,
    value: 'ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad',
  });
});

test.each<[Step, string]>([
  [{ kind: 'part', layout: 'no part', part: 'a' }, 'names no part'],
  [{ kind: 'part', layout: '{a}{b}', part: 'a' }, 'nothing between them'],
  [{ kind: 'part', layout: '{a} {a}', part: 'a' }, 'twice'],
  [{ kind: 'part', layout: '{a}', part: 'b' }, 'no part {b}'],
  [{ kind: 'link', address: 'https://x.example/' }, '{key} once'],
  [{ kind: 'link', address: 'javascript:{key}' }, 'https://'],
  [{ kind: 'money', currency: 'GBP', locale: 'no such locale', show: 'code' }, 'no locale'],
  [{ kind: 'path', path: 'a..b' }, 'no path'],
])('%j says what is wrong with it', (step, words) => {
  const compiled = compileStep(step, 'crm', {});
  expect(compiled.ok ? '' : compiled.reason).toContain(words);
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
    expect(
      lensOf('phone', [{ kind: 'phone', country: 'GB', form: 'national' }]).inbound('01632 96O417', undefined),
    ).toEqual({
      ok: false,
      reason: '“01632 96O417” is not a phone number: letter O at place 9',
    });
  });
});

test('a decimal comma is written as text where no number stands: a bare number would mean something else there', () => {
  const step: Step = { kind: 'number', decimal: ',' };
  const made = compileStep(step, 'm', {});
  if (!made.ok) throw new Error(made.reason);
  const lens = makeLens({ type: 'number', direction: 'both ways', steps: [made.value], blankAs: null });
  expect(lens.outbound('1.234', '1,0')).toEqual({ ok: true, value: '1,234' });
  expect(lens.outbound('1.234', undefined)).toEqual({ ok: true, value: '1,234' });
  expect(lens.outbound('1.234', 1)).toEqual({ ok: true, value: 1.234 });
});

test.each(['2026-01-15', '2026-07-15'])('an hour that comes twice means the first of the two, also on %s', (today) => {
  Settings.now = () => Date.parse(today);
  Settings.resetCaches();
  try {
    const lens = lensOf('instant', [
      { kind: 'date', format: 'yyyy-MM-dd HH:mm', zone: 'Europe/London', to: 'instant' },
    ]);
    const skipped = lensOf('date', [{ kind: 'date', format: 'yyyy-MM-dd HH:mm', zone: 'Europe/London', to: 'date' }]);
    const offset = lensOf('instant', [
      { kind: 'date', format: 'yyyy-MM-dd HH:mm ZZ', zone: 'Europe/London', to: 'instant' },
    ]);
    expect(lens.inbound('2026-10-25 01:30', undefined)).toEqual({ ok: true, value: '2026-10-25T00:30:00.000Z' });
    expect(lens.inbound('2026-03-29 01:30', undefined)).toEqual({ ok: true, value: '2026-03-29T01:30:00.000Z' });
    expect(skipped.inbound('2026-10-25 01:30', undefined)).toEqual({ ok: true, value: '2026-10-25' });
    expect(offset.inbound('2026-10-25 01:30 +00:00', undefined)).toEqual({
      ok: true,
      value: '2026-10-25T01:30:00.000Z',
    });
  } finally {
    Settings.now = () => Date.now();
    Settings.resetCaches();
  }
});
