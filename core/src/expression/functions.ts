import type { Environment } from '@marcbachmann/cel-js';
import { Decimal } from 'decimal.js';
import { DateTime } from 'luxon';
import { RE2JS } from 're2js';
import { decimalOf } from '../record/index.js';
import { toDecimal } from './decimalOperators.js';

/** A function that formulas can call. All of them give blank for blank, so that no formula has to ask first. */
export interface FormulaFunction {
  readonly signature: string;
  /** What it takes and gives, as far as that can be told before it runs: `round(number, whole): number`. */
  readonly types: string;
  readonly says: string;
  readonly example: string;
  readonly gives: string;
  // Arguments are `dyn` in CEL: each function checks what it is given.
  readonly run: (...values: never[]) => unknown;
}

const text = (value: unknown): string => (value instanceof Decimal ? value.toString() : String(value));

function number(value: unknown): Decimal {
  if (value instanceof Decimal || typeof value === 'bigint' || typeof value === 'number') return toDecimal(value);
  const decimal = typeof value === 'string' ? decimalOf(value) : undefined;
  if (!decimal) throw new Error(`“${text(value)}” is not a number`);
  return decimal;
}

function day(value: unknown): DateTime {
  const date = DateTime.fromISO(text(value), { zone: 'utc' });
  if (!date.isValid) throw new Error(`“${text(value)}” is not a date`);
  return date;
}

/** Date in, date out; date and time in, date and time out. */
function sameKind(before: unknown, after: DateTime): string {
  return text(before).includes('T') ? (after.toISO() ?? '') : (after.toISODate() ?? '');
}

function pattern(source: unknown): RE2JS {
  return RE2JS.compile(text(source));
}

const formulaFunctions: readonly FormulaFunction[] = [
  {
    signature: 'upper(dyn): dyn',
    types: 'upper(any): text',
    says: 'the text in capitals',
    example: 'upper("kit")',
    gives: 'KIT',
    run: (value) => text(value).toUpperCase(),
  },
  {
    signature: 'lower(dyn): dyn',
    types: 'lower(any): text',
    says: 'the text in small letters',
    example: 'lower("KIT")',
    gives: 'kit',
    run: (value) => text(value).toLowerCase(),
  },
  {
    signature: 'trim(dyn): dyn',
    types: 'trim(any): text',
    says: 'the text without blanks at its ends',
    example: 'trim("  kit ")',
    gives: 'kit',
    run: (value) => text(value).trim(),
  },
  {
    signature: 'length(dyn): dyn',
    types: 'length(any): number',
    says: 'how many characters the text has',
    example: 'length("kit")',
    gives: '3',
    run: (value) => toDecimal([...text(value)].length),
  },
  {
    signature: 'left(dyn, int): dyn',
    types: 'left(any, whole): text',
    says: 'the first characters',
    example: 'left("glasshouse", 5)',
    gives: 'glass',
    run: (value, count: bigint) => [...text(value)].slice(0, Number(count)).join(''),
  },
  {
    signature: 'right(dyn, int): dyn',
    types: 'right(any, whole): text',
    says: 'the last characters',
    example: 'right("glasshouse", 5)',
    gives: 'house',
    run: (value, count: bigint) => (count <= 0n ? '' : [...text(value)].slice(-Number(count)).join('')),
  },
  {
    signature: 'dropStart(dyn, string): dyn',
    types: 'dropStart(any, text): text',
    says: 'without a text that it begins with; unchanged where it does not',
    example: 'dropStart("A-417", "A-")',
    gives: '417',
    run: (value, start: string) => (text(value).startsWith(start) ? text(value).slice(start.length) : text(value)),
  },
  {
    signature: 'dropEnd(dyn, string): dyn',
    types: 'dropEnd(any, text): text',
    says: 'without a text that it ends with; unchanged where it does not',
    example: 'dropEnd("12 EUR", " EUR")',
    gives: '12',
    run: (value, end: string) =>
      end !== '' && text(value).endsWith(end) ? text(value).slice(0, -end.length) : text(value),
  },
  {
    signature: 'replace(dyn, string, string): dyn',
    types: 'replace(any, text, text): text',
    says: 'each occurrence of a text replaced by another',
    example: 'replace("a-b-c", "-", " ")',
    gives: 'a b c',
    run: (value, from: string, to: string) => text(value).replaceAll(from, () => to),
  },
  {
    signature: 'fits(dyn, string): dyn',
    types: 'fits(any, text): yes/no',
    says: 'whether the whole text fits a regular expression (RE2 syntax)',
    example: 'fits("HZ4 8QD", "[A-Z0-9 ]+")',
    gives: 'true',
    run: (value, source: string) => pattern(source).matches(text(value)),
  },
  {
    signature: 'replacePattern(dyn, string, string): dyn',
    types: 'replacePattern(any, text, text): text',
    says: 'what fits a regular expression replaced',
    example: 'replacePattern("01632 960417", "[^0-9]", "")',
    gives: '01632960417',
    run: (value, source: string, to: string) => pattern(source).matcher(text(value)).replaceAll(to),
  },
  {
    signature: 'label(string, dyn): dyn',
    types: 'label(text, any): text',
    says: 'a value with a label before it; blank when there is no value',
    example: 'label("VAT", "GB1")',
    gives: 'VAT: GB1',
    run: (label: string, value) => `${label}: ${text(value)}`,
  },
  {
    signature: 'number(dyn): dyn',
    types: 'number(any): number',
    says: 'the number that a text holds',
    example: 'number("12.50") * 2',
    gives: '25',
    run: (value) => number(value),
  },
  {
    signature: 'text(dyn): dyn',
    types: 'text(any): text',
    says: 'a value as text',
    example: 'text(2.50)',
    gives: '2.5',
    run: (value) => (typeof value === 'number' ? text(toDecimal(value)) : text(value)),
  },
  {
    signature: 'round(dyn, int): dyn',
    types: 'round(number, whole): number',
    says: 'rounded to that many decimal places, halves away from zero',
    example: 'round(2.345, 2)',
    gives: '2.35',
    run: (value, places: bigint) => number(value).toDecimalPlaces(Number(places), Decimal.ROUND_HALF_UP),
  },
  {
    signature: 'abs(dyn): dyn',
    types: 'abs(number): number',
    says: 'without its sign',
    example: 'abs(-3)',
    gives: '3',
    run: (value) => number(value).abs(),
  },
  {
    signature: 'addDays(dyn, int): dyn',
    types: 'addDays(text, whole): text',
    says: 'a date, that many days later',
    example: 'addDays("2026-02-27", 2)',
    gives: '2026-03-01',
    run: (value, days: bigint) => sameKind(value, day(value).plus({ days: Number(days) })),
  },
  {
    signature: 'addMonths(dyn, int): dyn',
    types: 'addMonths(text, whole): text',
    says: 'a date, that many months later; the last day where the day does not exist',
    example: 'addMonths("2026-01-31", 1)',
    gives: '2026-02-28',
    run: (value, months: bigint) => sameKind(value, day(value).plus({ months: Number(months) })),
  },
  {
    signature: 'daysBetween(dyn, dyn): dyn',
    types: 'daysBetween(text, text): number',
    says: 'whole days from one date to another',
    example: 'daysBetween("2026-01-01", "2026-01-31")',
    gives: '30',
    run: (from, to) => toDecimal(Math.trunc(day(to).diff(day(from), 'days').days)),
  },
  {
    signature: 'year(dyn): dyn',
    types: 'year(text): number',
    says: 'the year of a date',
    example: 'year("2026-11-23")',
    gives: '2026',
    run: (value) => toDecimal(day(value).year),
  },
];

const isFilled = (value: unknown): boolean => value !== null && value !== undefined && value !== '';
const mostArguments = 12;

/** The functions that look at blanks, of any number of values. */
const blankAware: readonly (FormulaFunction & {
  readonly first: string;
  readonly run: (...values: unknown[]) => unknown;
})[] = [
  {
    signature: 'firstFilled(dyn, dyn): dyn',
    types: 'firstFilled(any, any): any',
    first: 'dyn',
    says: 'the first value that is not blank',
    example: 'firstFilled(null, "kit")',
    gives: 'kit',
    run: (...values) => values.find(isFilled) ?? null,
  },
  {
    signature: 'join(string, dyn): dyn',
    types: 'join(text, any): text',
    first: 'string',
    says: 'the values that are not blank, with a text between them; blank when all are',
    example: 'join(" ", "Ada", null, "Noel")',
    gives: 'Ada Noel',
    run: (separator, ...values) => {
      const filled = values.filter(isFilled);
      return filled.length === 0 ? null : filled.map(text).join(separator as string);
    },
  },
];

/** All functions, as people are told of them. */
export const formulaHelp: readonly Omit<FormulaFunction, 'run'>[] = [...formulaFunctions, ...blankAware].map(
  ({ signature, types, says, example, gives }) => ({
    signature,
    types,
    says,
    example,
    gives,
  }),
);

const celTypes: Readonly<Record<string, readonly string[]>> = {
  any: ['dyn'],
  text: ['string'],
  whole: ['int'],
  number: ['decimal', 'int', 'double'],
  'yes/no': ['bool'],
};

/** Declares the functions with what they take and give, for checking formulas that are not run. */
export function declareFunctions(environment: Environment): void {
  for (const { types, signature } of [...formulaFunctions, ...blankAware]) {
    const [, name = '', takes = '', gives = ''] = /^(\w+)\((.*)\): (.*)$/.exec(types) ?? [];
    const takesMore = blankAware.some((overload) => overload.signature === signature);
    const words = takes.split(', ');
    const lists = takesMore
      ? Array.from({ length: mostArguments - 1 }, (_, more) => [
          words[0] ?? 'any',
          ...Array<string>(more + 1).fill('any'),
        ])
      : [words];
    for (const list of lists) {
      const overloads = list.reduce<string[][]>(
        (all, word) => all.flatMap((before) => (celTypes[word] ?? ['dyn']).map((type) => [...before, type])),
        [[]],
      );
      for (const overload of overloads)
        environment.registerFunction(`${name}(${overload.join(', ')}): ${(celTypes[gives] ?? ['dyn'])[0]}`, () => null);
    }
  }
}

export function registerFunctions(environment: Environment): void {
  for (const { signature, run } of formulaFunctions) {
    const onFilled = run as (...values: unknown[]) => unknown;
    environment.registerFunction(signature, (...values: unknown[]) =>
      values.some((value) => value === null || value === undefined) ? null : onFilled(...values),
    );
  }
  for (const { signature, first, run } of blankAware) {
    const name = signature.slice(0, signature.indexOf('('));
    for (let more = 1; more < mostArguments; more += 1)
      environment.registerFunction(`${name}(${[first, ...Array<string>(more).fill('dyn')].join(', ')}): dyn`, run);
  }
}
