/** Which corresponding fields tell whether two records are the same thing, and how each is compared. */
import type { Raw } from '../record/index.js';
import { proposeEvidence } from './proposeEvidence.js';
import { ObjectSketcher } from './sketch.js';

const many = 200;

/** Proposes over `many` records of one field per side; `of` gives the value of a record. */
function comparisonOfField(left: string, right: string, of: (index: number) => Raw): string | undefined {
  const sketchOf = (field: string) => {
    const sketcher = new ObjectSketcher();
    for (let index = 0; index < many; index += 1) sketcher.add({ [field]: of(index) });
    return sketcher.sketch();
  };
  return proposeEvidence([{ left, right, confidence: 1, reasons: [] }], sketchOf(left), sketchOf(right))[0]?.compare;
}

const letters = (index: number): string =>
  [...String(index).padStart(4, '0')].map((digit) => 'bdfgklmnrs'[Number(digit)]).join('a');

test.each<[string, string, (index: number) => Raw, string | undefined]>([
  ['email', 'contact', (index) => `${letters(index)}@firm.example`, 'email'],
  ['phone', 'tel', (index) => `+44 20 7946 ${String(1000 + index)}`, 'phone'],
  ['born', 'birthday', (index) => new Date(Date.UTC(1970, 0, 1 + index)).toISOString().slice(0, 10), 'date'],
  ['last_name', 'surname', letters, 'person name'],
  ['company', 'CompanyName', letters, 'company name'],
  ['street', 'address', (index) => `${String(index + 1)} ${letters(index)} lane`, 'address'],
  ['postcode', 'zip', (index) => `N${String(index % 9)} ${letters(index)}`, 'code'],
  // A name that says nothing is compared as text,
  ['label', 'title', letters, 'text'],
  // but amounts, yes and no, and what is written anew in each system tell nothing.
  ['total', 'amount', (index) => index * 7 + 0.5, undefined],
  ['active', 'enabled', (index) => index % 2 === 0, undefined],
  ['note', 'remark', (index) => `${letters(index)} `.repeat(20), undefined],
])('%s and %s', (left, right, of, compare) => {
  expect(comparisonOfField(left, right, of)).toBe(compare);
});

test('a field of few values is no evidence, however well it corresponds', () => {
  const groupsOf = (count: number) => comparisonOfField('label', 'title', (index) => letters(index % count));
  expect(groupsOf(3)).toBeUndefined();
  expect(groupsOf(50)).toBe('text');
});

test('what tells records apart best comes first, and no more than eight are taken', () => {
  const sketcher = new ObjectSketcher();
  const fields = Array.from({ length: 10 }, (_, width) => `label${String(width)}`);
  for (let index = 0; index < many; index += 1)
    sketcher.add(Object.fromEntries(fields.map((field, width) => [field, letters(index % (20 * (width + 1)))])));
  const sketch = sketcher.sketch();
  const proposed = proposeEvidence(
    fields.map((field) => ({ left: field, right: field, confidence: 1, reasons: [] })),
    sketch,
    sketch,
  );
  expect(proposed.map(({ name }) => name)).toEqual([...fields].reverse().slice(0, 8));
});

test('a pair whose field is in no record is left out', () => {
  const sketcher = new ObjectSketcher();
  sketcher.add({ email: 'a@firm.example' });
  expect(
    proposeEvidence(
      [{ left: 'email', right: 'gone', confidence: 1, reasons: [] }],
      sketcher.sketch(),
      sketcher.sketch(),
    ),
  ).toEqual([]);
});
