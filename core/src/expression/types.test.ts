import { checkFormulaTypes, type FormulaType } from './formula.js';
import { formulaHelp } from './functions.js';
import { inverseFormula } from './inverse.js';
import { readFormula } from './formula.js';
import { decimalOf } from '../record/index.js';

const types: Record<string, FormulaType | undefined> = {
  company: 'text',
  limit: 'number',
  vip: 'yes/no',
  tags: 'list',
  record: undefined,
};

test.each<[string, FormulaType | undefined]>([
  ['limit * 2 + 1', 'number'],
  ['join(" ", company, limit)', 'text'],
  ['limit == null || limit >= 0', 'yes/no'],
  ['"x" in tags && company.startsWith("a")', 'yes/no'],
  ['vip ? company : limit', undefined],
  ['vip ? company : null', undefined],
  ['record.status + 1', undefined],
  ['number(company) * 2', 'number'],
  ['company >', undefined],
])('%s gives %s', (source, gives) => {
  expect(checkFormulaTypes(source, types)).toEqual({ ok: true, gives });
});

test.each<[string, string, string]>([
  ['company * 2', 'text * number is not possible', 'company'],
  ['1 + round(company, 2)', 'round does not take (text, number)', 'round'],
  ['year(limit)', 'year does not take (number)', 'year'],
  ['limit ? 1 : 2', 'before the ? stands number, and not a yes/no', 'limit'],
  ['company == 5', 'text == number is not possible', 'company'],
])('%s: types that do not meet are named', (source, says, place) => {
  const checked = checkFormulaTypes(source, types);
  expect(checked.ok ? '' : checked.reason).toContain(says);
  expect(checked.ok ? '' : source.slice(checked.range?.from)).toMatch(new RegExp(`^${place}`));
});

test('what a function is said to take and give agrees with what it is', () => {
  for (const { example, signature, types: said } of formulaHelp) {
    expect(said.slice(0, said.indexOf('('))).toBe(signature.slice(0, signature.indexOf('(')));
    expect(checkFormulaTypes(example, {})).toMatchObject({ ok: true });
  }
});

test.each([
  ['value * 100', 'value / 100', '12.5'],
  ['(value - 32) * 5 / 9', '((value * 9) / 5) + 32', '77'],
  ['10 - value', '10 - value', '3'],
  ['100 / value', '100 / value', '8'],
  ['-value', '-value', '4'],
])('%s is undone by %s', (formula, inverse, given) => {
  expect(inverseFormula(formula)).toEqual({ ok: true, value: inverse });
  const run = (source: string, value: unknown): unknown => {
    const read = readFormula(source, ['value']);
    const result = read.ok ? read.value.evaluate({ value }) : read;
    return result.ok ? result.value : result.reason;
  };
  expect(String(run(inverse, run(formula, decimalOf(given))))).toBe(given);
});

test.each([
  ['"X-" + value', 'dropStart(value, "X-")'],
  ['value + " EUR"', 'dropEnd(value, " EUR")'],
  ['number(value) / 100', 'text(value * 100)'],
  ['value == null ? null : "k-" + value', 'value == null ? null : dropStart(value, "k-")'],
  ['!value', '!value'],
])('%s is undone by %s', (formula, inverse) => {
  expect(inverseFormula(formula)).toEqual({ ok: true, value: inverse });
});

test.each([
  ['upper(value)', /upper cannot be undone/],
  ['value + value', /more than once/],
  ['value * 0', /multiplied by zero/],
  ['value + other', /only fixed values/],
  ['1 + 2', /does not stand in it/],
  ['value - "a"', /cannot be calculated with/],
  ['value +', /cannot be read/],
])('%s has no way back, and it is said why', (formula, says) => {
  const back = inverseFormula(formula);
  expect(back.ok ? '' : back.reason).toMatch(says);
});
