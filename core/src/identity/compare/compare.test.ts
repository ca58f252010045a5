import { comparisonKinds } from '../../definition/index.js';
import fc from 'fast-check';
import { comparisonOf } from '../comparison.js';
import { isOneEdit } from './edits.js';
import { jaroWinkler } from './jaroWinkler.js';
import { soundex } from './soundex.js';
import { dice } from './tokens.js';

/** Winkler 1990 and 1994 (Advanced methods for record linkage, table 1), to three places. */
test.each([
  ['shackleford', 'shackelford', 0.982],
  ['dunningham', 'cunnigham', 0.896],
  ['nichleson', 'nichulson', 0.956],
  ['jones', 'johnson', 0.832],
  ['massey', 'massie', 0.933],
  ['abroms', 'abrams', 0.922],
  ['jeraldine', 'geraldine', 0.926],
  ['marhta', 'martha', 0.961],
  ['michelle', 'michael', 0.921],
  ['julies', 'julius', 0.933],
  ['tanya', 'tonya', 0.88],
  ['dwayne', 'duane', 0.84],
  ['sean', 'susan', 0.805],
  ['jon', 'john', 0.933],
  ['dixon', 'dicksonx', 0.813],
])('Jaro and Winkler give %s and %s %d, either way round', (a, b, published) => {
  expect(jaroWinkler(a, b)).toBeCloseTo(published, 3);
  expect(jaroWinkler(b, a)).toBeCloseTo(published, 3);
});

test('long texts are compared by the same measure as short ones', () => {
  const tail = 'x'.repeat(40);
  for (const [a, b] of [
    ['martha', 'marhta'],
    ['dwayne', 'duane'],
  ] as const)
    expect(jaroWinkler(a + tail, b + tail)).toBeGreaterThan(jaroWinkler(a, b));
  expect(jaroWinkler(tail, tail)).toBe(1);
  expect(jaroWinkler('', '')).toBe(0);
});

/** The examples of the US National Archives. */
test.each([
  ['washington', 'w252'],
  ['lee', 'l000'],
  ['gutierrez', 'g362'],
  ['jackson', 'j250'],
  ['tymczak', 't522'],
  ['ashcraft', 'a261'],
  ['pfister', 'p236'],
])('the Soundex of %s is %s', (word, code) => {
  expect(soundex(word)).toBe(code);
});

test('one edit is a character more, less, another, or two swapped', () => {
  for (const other of ['01632960417', '0163296041', '016329604171', '01632960471', '11632960417'])
    expect(isOneEdit('01632960417', other)).toBe(true);
  for (const other of ['016329604', '10632960471', '', '01632961418'])
    expect(isOneEdit('01632960417', other)).toBe(false);
});

test('words in common are counted once each', () => {
  expect(dice(['a', 'b', 'b'], ['b', 'c'])).toBe(0.5);
  expect(dice([], ['a'])).toBe(0);
});

test.each([
  ['person name', 'Dr. William Penhale', 'Penhale, Bill', 4],
  ['person name', 'Ada Noel', 'A. Noel', 3],
  ['person name', 'Lars Noel', 'kars Noel', 3],
  ['person name', 'Ada Noel', 'Noel', 2],
  ['person name', 'Noémie Marchetti', 'noemie marcheti', 3],
  ['person name', 'Ada Noel', 'Bram Noel', 1],
  ['person name', 'Ada Noel', 'Vera Rowntree', 0],
  ['person name', 'محمد علي', 'محمد على', 4],
  ['company name', 'Osprey & Daughters Nursery Ltd.', 'Osprey and Daughters Nursery', 3],
  ['company name', 'Gärtnerei Müller GmbH & Co. KG', 'Gaertnerei Mueller', 3],
  ['company name', 'Coldframe B.V.', 'Coldframe', 3],
  ['company name', 'Fernhill Gardens', 'Saltpan Orchids', 0],
  ['phone', '+44 1632 960417', '01632 960 417', 2],
  ['phone', '+44 1632 960417', '01632 960 471', 1],
  ['phone', '+44 1632 960417', '+49 1632 960417', 0],
  ['phone', '0044 (0)1632 960417', '+44 1632 960417', 2],
  ['email', 'Yard+shop@Osprey.example', 'yard@osprey.example', 3],
  ['email', 'yard@osprey.example', 'office@osprey.example', 1],
  ['address', '12 Saltpan Ln, Thornquay', 'Saltpan Lane 12 Thornquay', 3],
  ['address', 'Hauptstr. 7', '7 Haupt Strasse', 3],
  ['address', '12 Saltpan Lane', '98 Saltpan Lane', 0],
  ['address', '12 Saltpan Lane, HZ4 8QD', 'HZ4 8QD', 1],
  ['address', '76 Mill Road LN10 2AB', '76eMill Rd LN10 2AB', 1],
  ['date', '1968-04-12', '1968-12-04', 2],
  ['date', '1968-04-12', '1963-04-12', 2],
  ['number', '1000', '1004.5', 2],
  ['text', 'blue glass kit', 'Glass kit, blue', 2],
  ['exact', 'HZ4 8QD', 'hz4 8qd', 1],
  ['code', 'HZ4 8QD', 'hz48qd', 2],
  ['code', 'HZ4 8QD', 'HZ9 8QD', 1],
  ['code', 'HZ4 8QD', 'TQ4 1QD', 0],
] as const)('as %s, “%s” and “%s” are on level %d', (kind, a, b, level) => {
  const comparison = comparisonOf(kind);
  const [left, right] = [comparison.prepare(a), comparison.prepare(b)];
  expect(left && right && comparison.level(left, right)).toBe(level);
});

test('every comparison is the same either way round, and a value is the same as itself', () => {
  const texts = fc.oneof(
    fc.string(),
    fc.constantFrom(
      'Ada Noel',
      '+441632960417',
      'a@b.example',
      '2026-11-25',
      '12 Mill Lane',
      '12.5',
      'נועה כהן',
      '   ',
      '𝒜𝒷 ﬁ',
    ),
  );
  for (const kind of comparisonKinds) {
    const comparison = comparisonOf(kind);
    fc.assert(
      fc.property(texts, texts, (a, b) => {
        const [left, right] = [comparison.prepare(a), comparison.prepare(b)];
        if (!left || !right) return;
        const top = comparison.levels.length - 1;
        expect(comparison.level(left, left)).toBe(top);
        expect(comparison.level(left, right)).toBe(comparison.level(right, left));
        if (comparison.level(left, right) === top && left.form === right.form)
          expect(comparison.hints(left).some((hint) => comparison.hints(right).includes(hint))).toBe(true);
      }),
      { numRuns: 300 },
    );
  }
});
