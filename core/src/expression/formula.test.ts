import { decimalOf } from '../record/index.js';
import { readFormula } from './formula.js';
import { formulaHelp } from './functions.js';
import { rawResult } from './formula.js';

function evaluate(source: string, variables: Record<string, unknown> = {}): unknown {
  const formula = readFormula(source, Object.keys(variables));
  if (!formula.ok) return `not a formula: ${formula.reason}`;
  const result = formula.value.evaluate(variables);
  if (!result.ok) return `failed: ${result.reason}`;
  const raw = rawResult(result.value);
  return raw.ok ? raw.value : raw.reason;
}
const amount = decimalOf('12.5');

test.each(formulaHelp)('$example gives what its description says', ({ example, gives }) => {
  expect(String(evaluate(example))).toBe(gives);
});

test.each([
  ['0.1 + 0.2', {}, 0.3],
  ['amount * 2 + 1', { amount }, 26],
  ['1 + amount > 13.4 && amount <= 12.5', { amount }, true],
  ['2.5 * 2', {}, 5],
  ['amount == 12.50', { amount }, true],
  ['blank + 3', { blank: null }, 3],
  ['"Ms " + blank', { blank: null }, 'Ms '],
  ['blank * amount', { blank: null, amount }, null],
  ['blank > 3 || blank < 3 || blank >= "x"', { blank: null }, false],
  ['upper(blank)', { blank: null }, null],
  ['firstFilled(blank, "", "x")', { blank: null }, 'x'],
  ['number("12345678901234567890") + 1', {}, { $number: '12345678901234567891' }],
])('%s', (source, variables, expected) => {
  expect(evaluate(source, variables)).toEqual(expected);
});

test.each([
  ['', /empty/],
  ['company ==', /./],
  ['nobody + 1', /nobody/],
  ['1 / 0.0', /division by zero/],
  ['"a".matches("(a+)+$")', /fits/],
  [`${'1 + '.repeat(12_000)}1`, /characters/],
  [`${'('.repeat(900)}1${')'.repeat(900)}`, /./],
  ['fits("x", "(")', /./],
])('a bad formula is an outcome with a reason: %.30s', (source, reason) => {
  expect(evaluate(source)).toMatch(reason);
});

test('a pattern that stalls backtracking engines answers at once', () => {
  expect(evaluate(`fits("${'a'.repeat(3000)}!", "(a+)+")`)).toBe(false);
});

test.each<[string, string, string | undefined]>([
  ['1 +', 'the formula ends too early (at character 4)', ''],
  ['1 + gone', 'there is nothing called “gone” here (at character 5)', 'gone'],
  ['upper(value', 'a bracket is not closed', ''],
  ['1 + uper(value)', 'there is no function “uper”', 'uper'],
  ['value.matches("a+")', 'use fits(text, pattern)', 'matches'],
])('%s: what is wrong is said in plain words, and where', (source, words, place) => {
  const read = readFormula(source, ['value']);
  expect(read.ok ? '' : read.reason).toContain(words);
  const range = read.ok ? undefined : read.range;
  if (place !== undefined) expect(source.slice(range?.from, range?.to).startsWith(place)).toBe(true);
});
