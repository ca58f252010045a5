import { compileStep, makeLens, type Step } from '../mapping/index.js';
import { isBlank, type Raw, readPath } from '../record/index.js';
import { proposeFields, type ProposedField } from './proposeFields.js';
import { ObjectSketcher } from './sketch.js';

const two = (number: number): string => String(number).padStart(2, '0');
const numbers = Array.from({ length: 120 }, (_, index) => index);
const day = (n: number) => ({ year: 2020 + (n % 6), month: 1 + (n % 12), date: 1 + (n % 28) });

const nameOf = (n: number): string =>
  `${['Oak', 'Ash', 'Silverweed', 'Fern'][n % 4] ?? ''} ${['Nurseries', 'Allotments'][n % 2] ?? ''} ${n}`;

/** The same things as two systems write them. */
const left = numbers.map((n): Record<string, Raw> => {
  const { year, month, date } = day(n);
  return {
    id: `A-${n}`,
    company: nameOf(n),
    email: `Person${n}@Example.org`,
    phone: `+44 1632 960${String(100 + n)}`,
    since: `${year}-${two(month)}-${two(date)}`,
    country: ['United Kingdom', 'Germany', 'France'][n % 3] as string,
    consent: n % 2 === 0,
    net: 10 + n * 0.25,
    tags: ['new', `t${n}`],
    notes: `called on day ${n} about the delivery of the glass and the frame that was bent`,
  };
});
const right = numbers.map((n): Record<string, Raw> => {
  const { year, month, date } = day(n);
  return {
    no: 5000 + n,
    firm: nameOf(n).slice(0, 16).trimEnd(),
    mail: `person${n}@example.org`,
    tel: `01632 960${String(100 + n)}`,
    registered: `${two(date)}/${two(month)}/${year}`,
    land: ['GB', 'DE', 'FR'][n % 3] as string,
    newsletter: n % 2 === 0 ? 'Y' : 'N',
    net_pence: (10 + n * 0.25) * 100,
    labels: `new;t${n}`,
    remarks: `called on day ${n} about the delivery of the glass and the frame that was bent`,
  };
});

function sketchOf(records: readonly Record<string, Raw>[]) {
  const sketcher = new ObjectSketcher();
  for (const record of records) sketcher.add(record);
  return sketcher.sketch();
}
const proposed = proposeFields(
  [
    { id: 'crm', object: sketchOf(left), fields: [], mayUpdate: true },
    { id: 'shop', object: sketchOf(right), fields: [{ path: 'remarks', type: 'text', longest: 60 }], mayUpdate: true },
  ],
  [],
);
const byLeft = (path: string): ProposedField =>
  proposed.find(({ cells }) => cells.some(({ member, field }) => member === 'crm' && field === path)) as ProposedField;

test.each([
  ['email', 'mail', 'email'],
  ['phone', 'tel', 'phone'],
  ['since', 'registered', 'date'],
  ['country', 'land', 'choice'],
  ['consent', 'newsletter', 'yes/no'],
  ['net', 'net_pence', 'number'],
  ['notes', 'remarks', 'note'],
])('%s and %s become one shared field of the type %s', (path, other, type) => {
  const field = byLeft(path);
  expect([field.type, field.cells.map((cell) => cell.field)]).toEqual([type, [path, other]]);
});

function lensOf({ type, crosswalk, id }: ProposedField, member: string, steps: readonly Step[]) {
  const compiled = steps.map((step) => {
    const lens = compileStep(step, member, crosswalk ? { [id]: crosswalk } : {});
    if (!lens.ok) throw new Error(lens.reason);
    return lens.value;
  });
  return makeLens({ type, direction: 'both ways', steps: compiled, blankAs: null });
}

test.each(['email', 'phone', 'since', 'consent', 'net'])(
  'the steps that are proposed for %s read both sides alike, and write what the other side would read',
  (path) => {
    const field = byLeft(path);
    const [here, there] = field.cells.map((cell) => ({ cell, lens: lensOf(field, cell.member, cell.steps) }));
    if (!here || !there) throw new Error('two cells are proposed');
    for (const [index, record] of left.entries()) {
      const raw = readPath(record, here.cell.field) as Raw;
      const other = readPath(right[index] as Record<string, Raw>, there.cell.field) as Raw;
      expect(isBlank(raw)).toBe(false);
      const meant = here.lens.inbound(raw, undefined);
      expect(meant).toEqual(there.lens.inbound(other, undefined));
      if (!meant.ok) throw new Error(meant.reason);
      const written = there.lens.outbound(meant.value, undefined);
      expect(written.ok && there.lens.means(written.value, meant.value)).toBe(true);
    }
  },
);

test('a text that has less room there is cut, and what is a choice with other words brings its table', () => {
  expect(byLeft('notes').cells.find(({ member }) => member === 'shop')?.steps).toEqual([{ kind: 'cut', length: 60 }]);
  const table = byLeft('country').crosswalk;
  const lens = lensOf(
    byLeft('country'),
    'shop',
    byLeft('country').cells.find(({ member }) => member === 'shop')?.steps ?? [],
  );
  expect(lens.inbound('DE', undefined)).toEqual({ ok: true, value: table ? 'Germany' : 'DE' });
});

test('ids of proposed fields are names that formulas can use, each once', () => {
  const ids = proposed.map(({ id }) => id);
  expect(new Set(ids).size).toBe(ids.length);
  expect(ids.every((id) => /^[a-z][A-Za-z0-9]{0,39}$/.test(id))).toBe(true);
});

test('where one system has less room than another, and does not say so, its records show it', () => {
  expect(byLeft('company').cells.map(({ member, steps }) => [member, steps])).toEqual([
    ['crm', [{ kind: 'trim' }]],
    ['shop', [{ kind: 'trim' }, { kind: 'cut', length: 16 }]],
  ]);
});
