import fc from 'fast-check';
import type { Raw } from '../record/index.js';
import { nameLikeness, partsOfName, wordsOfName } from './fieldNames.js';
import { judgePair } from './pairEvidence.js';
import { joinedRows, type ObjectSketch, ObjectSketcher, sharedValues } from './sketch.js';
import { TiedRecords } from './tiedEvidence.js';
import { readValue } from './valueForms.js';

const like = (a: string, b: string): number => nameLikeness(partsOfName(a), partsOfName(b));
const formsOf = (raw: Raw): readonly string[] => readValue(raw)?.forms ?? [];
const same = (a: Raw, b: Raw): boolean => formsOf(a).some((form) => formsOf(b).includes(form));
const numbers = (from: number, count: number): number[] => Array.from({ length: count }, (_, index) => from + index);
function sketchOf(records: readonly Record<string, Raw>[]): ObjectSketch {
  const sketcher = new ObjectSketcher();
  for (const record of records) sketcher.add(record);
  return sketcher.sketch();
}
const field = (sketch: ObjectSketch, path: string) => {
  const found = sketch.fields.find((one) => one.path === path);
  if (!found) throw new Error(`no field ${path}`);
  return { ...found, parts: partsOfName(path) };
};

test('names are taken apart however they are written', () => {
  expect(wordsOfName('primaryContactEmail')).toEqual(['primary', 'contact', 'email']);
  expect(wordsOfName('cust_postal-code')).toEqual(['cust', 'postal', 'code']);
  expect(wordsOfName('deliveryVATNumber')).toEqual(['delivery', 'vat', 'number']);
  expect(wordsOfName('Straße.Größe2')).toEqual(['strasse', 'grosse', '2']);
});

test('words of the trade, abbreviations and other languages are alike; what only shares a faint word is not', () => {
  for (const [a, b] of [
    ['postalCode', 'PLZ'],
    ['lastName', 'surname'],
    ['delivery_date', 'dlv_dt'],
    ['vatNumber', 'UStIdNr'],
    ['quantity', 'qty'],
  ] as const)
    expect([a, b, like(a, b) > 0.6]).toEqual([a, b, true]);
  for (const [a, b] of [
    ['customerNumber', 'phoneNumber'],
    ['created', 'credit'],
    ['street', 'status'],
  ] as const)
    expect([a, b, like(a, b) < 0.5]).toEqual([a, b, true]);
});

test('likeness of names goes both ways alike and stays within 0 and 1', () => {
  const name = fc.oneof(
    fc.string({ maxLength: 20 }),
    fc.constantFrom('billingCity', 'ship_to_zip', 'nom', 'Kreditlimit', 'value2'),
  );
  fc.assert(
    fc.property(name, name, (a, b) => {
      expect(like(a, b)).toBeCloseTo(like(b, a), 9);
      expect(like(a, b)).toBeGreaterThanOrEqual(0);
      expect(like(a, b)).toBeLessThanOrEqual(1 + 1e-9);
    }),
  );
});

test.each<[string, Raw, Raw, boolean]>([
  ['a day in two orders', '31/12/2026', '2026-12-31', true],
  ['a day and a moment of it', '2026-12-31', '2026-12-31T10:00:00Z', true],
  ['a moment in seconds', 1767182400, '2025-12-31', true],
  ['days that differ', '30/12/2026', '2026-12-31', false],
  ['a number with a comma', '1.234,50', 1234.5, true],
  ['a number kept as it was sent', { $number: '1.10' }, 1.1, true],
  ['a phone number in two forms', '01632 960417', '+44 1632 960417', true],
  ['a country and its code', 'United Kingdom', 'GB', true],
  ['case and marks', 'Müller & Söhne', 'muller sohne', true],
  ['yes in two languages', 'oui', true, true],
  ['a text of digits with a leading zero', '00123', 123, false],
  ['lists in another order', ['b', 'a'], ['a', 'b'], true],
])('values are compared by what they mean: %s', (_, a, b, expected) => {
  expect(same(a, b)).toBe(expected);
});

test('blanks have no form, and reading any value never throws', () => {
  for (const blank of [null, '', '  ', []]) expect(readValue(blank)).toBeUndefined();
  fc.assert(fc.property(fc.jsonValue(), (value) => void readValue(value as Raw)));
});

test('overlap of large objects is estimated from small sketches, and the same values are kept on both sides', () => {
  const left = sketchOf(numbers(0, 20_000).map((n) => ({ mail: `p${n}@x.example` })));
  const right = sketchOf(numbers(15_000, 20_000).map((n) => ({ mail: `P${n}@X.example` })));
  const [a, b] = [field(left, 'mail'), field(right, 'mail')];
  expect(a.smallest.size).toBeLessThan(1100);
  expect(sharedValues(a, b).count).toBeGreaterThan(3500);
  expect(sharedValues(a, b).count).toBeLessThan(6500);
  const joined = joinedRows(a, b);
  expect(joined.length).toBeGreaterThan(50);
  expect(joined.every(([x, y]) => String(x.mail).toLowerCase() === String(y.mail).toLowerCase())).toBe(true);
  expect(left.rows.length).toBeLessThanOrEqual(400);
});

test('in tied records equality is told from chance, units from other factors, and a crosswalk from noise', () => {
  const noise = (n: number): number => (n * 7919) % 101;
  const left = sketchOf(
    numbers(0, 150).map((n) => ({
      mail: `p${n}@x.example`,
      name: `Name ${n}`,
      flag: n % 10 > 0,
      cost: 3 + n * 0.5,
      group: ['a', 'b', 'c'][n % 3] as string,
      roll: noise(n) % 3,
    })),
  );
  const right = sketchOf(
    numbers(0, 150).map((n) => ({
      mail: `p${n}@x.example`,
      title: `Name ${n}`,
      on: n % 10 > 0,
      pence: (3 + n * 0.5) * 100,
      price: (3 + n * 0.5) * 1.37,
      kind: `K${n % 3}`,
    })),
  );
  const tied = new TiedRecords(left, right);
  expect(tied.count).toBe(150);
  expect(tied.compare('name', 'title')).toMatchObject({ of: 150, equal: 150, chance: 0 });
  const flags = tied.compare('flag', 'on');
  expect(flags?.equal).toBe(150);
  expect(flags?.chance).toBeGreaterThan(0.7);
  expect(tied.compare('cost', 'pence')?.factor).toBe(100);
  expect(tied.compare('cost', 'price')?.factor).toBeUndefined();
  expect(tied.compare('group', 'kind')?.tells).toBeCloseTo(1, 6);
  expect(tied.compare('roll', 'kind')?.tells).toBeLessThan(0.3);
});

test('the score is the sum of its reasons and the prior', () => {
  const left = sketchOf(numbers(0, 60).map((n) => ({ email: `p${n}@x.example`, amount: n })));
  const right = sketchOf(numbers(0, 60).map((n) => ({ mail: `p${n}@x.example`, amount: `text ${n}` })));
  const judged = judgePair(field(left, 'email'), field(right, 'mail'), undefined);
  const other = judgePair(field(left, 'amount'), field(right, 'mail'), undefined);
  expect(judged.score - judged.reasons.reduce((sum, { adds }) => sum + adds, 0)).toBeCloseTo(
    other.score - other.reasons.reduce((sum, { adds }) => sum + adds, 0),
    9,
  );
  expect(judged.score).toBeGreaterThan(2);
  expect(other.score).toBeLessThan(0);
});
