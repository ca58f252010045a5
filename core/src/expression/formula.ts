import { type ASTNode, Environment } from '@marcbachmann/cel-js';
import { Decimal } from 'decimal.js';
import {
  decimalOf,
  failed,
  type FieldType,
  good,
  isExactNumber,
  type Outcome,
  type Raw,
  type Shared,
} from '../record/index.js';
import { registerDecimalOperators, toDecimal } from './decimalOperators.js';
import { declareFunctions, formulaHelp, registerFunctions } from './functions.js';

/**
 * Formulas are written in the Common Expression Language (CEL, the open specification by Google),
 * with exact decimals, blanks that do not break a formula, and the functions in `functions.ts`.
 */
export interface Formula {
  readonly source: string;
  /** Evaluates with the given variables. Never throws: a failing formula is an outcome with the reason. */
  evaluate(variables: Readonly<Record<string, unknown>>): Outcome<unknown>;
}

/** Why a text is no formula, and where in it (from, to; in UTF-16 units), as far as the reader knows. */
export interface FormulaProblem {
  readonly ok: false;
  readonly reason: string;
  readonly range?: { readonly from: number; readonly to: number };
}

const longestFormula = 4000;
const baseEnvironment = makeEnvironment(registerFunctions);
/** Knows what functions take and give; nothing is evaluated in it, because a value may always be blank. */
const typedEnvironment = makeEnvironment(declareFunctions);

function makeEnvironment(functions: (environment: Environment) => void): Environment {
  const environment = new Environment({
    homogeneousAggregateLiterals: false,
    limits: { maxAstNodes: 2000, maxDepth: 100, maxListElements: 1000, maxMapEntries: 200, maxCallArguments: 16 },
  });
  registerDecimalOperators(environment);
  functions(environment);
  return environment;
}

/** The types that formulas tell apart. */
export type FormulaType = 'text' | 'number' | 'yes/no' | 'list';

/** What a shared value of that type is in a formula: dates, phones and choices are texts there. */
export function formulaTypeOf(type: FieldType): FormulaType {
  return type === 'number' || type === 'yes/no' || type === 'list' ? type : 'text';
}

const celTypeOf: Readonly<Record<FormulaType, string>> = {
  text: 'string',
  number: 'decimal',
  'yes/no': 'bool',
  list: 'list<string>',
};
const typeOfCel: Readonly<Record<string, FormulaType>> = {
  string: 'text',
  decimal: 'number',
  int: 'number',
  double: 'number',
  bool: 'yes/no',
};

/**
 * Whether the types in a formula meet. A formula that is none is not looked at here.
 * @param types of the names that it may use; a name without one may hold anything
 * @returns the type that it gives where that can be told; or what does not meet, and where
 */
export function checkFormulaTypes(
  source: string,
  types: Readonly<Record<string, FormulaType | undefined>>,
): { readonly ok: true; readonly gives: FormulaType | undefined } | FormulaProblem {
  try {
    const environment = typedEnvironment.clone();
    for (const [name, type] of Object.entries(types))
      environment.registerVariable(name, type === undefined ? 'dyn' : celTypeOf[type]);
    const check = environment.parse(nullOfAnyType(source)).check();
    const { type } = check as { type?: unknown };
    // A formula may well give one type here and another there.
    if (!check.valid)
      return check.error?.message.includes('must have the same type')
        ? { ok: true, gives: undefined }
        : problemOf(check.error, source);
    return {
      ok: true,
      gives: typeof type !== 'string' ? undefined : type.startsWith('list') ? 'list' : typeOfCel[type],
    };
  } catch {
    return { ok: true, gives: undefined };
  }
}

/**
 * Reads a formula and checks it against the names it may use.
 * @param variables the names that will be given at evaluation
 * @returns the formula, or the reason (with the place) why it is not one
 */
export function readFormula(
  source: string,
  variables: readonly string[],
): { readonly ok: true; readonly value: Formula } | FormulaProblem {
  if (source.trim() === '') return failed('the formula is empty');
  if (source.length > longestFormula)
    return failed(`the formula has ${source.length} characters; ${longestFormula} are allowed`);
  // CEL's own `matches` runs on a backtracking engine, which a crafted value can stall for minutes.
  const matches = /\bmatches\s*\(/.exec(source);
  if (matches)
    return {
      ok: false,
      reason: 'use fits(text, pattern) instead of matches: it takes the same time for every text',
      range: { from: matches.index, to: matches.index + 'matches'.length },
    };
  try {
    const environment = baseEnvironment.clone();
    for (const name of variables) environment.registerVariable(name, 'dyn');
    let parsed = environment.parse(source);
    let check = parsed.check();
    // CEL wants both branches of a choice to be of one type; a blank is a fit branch for any.
    if (!check.valid && check.error?.message.includes('must have the same type')) {
      parsed = environment.parse(nullOfAnyType(source));
      check = parsed.check();
    }
    if (!check.valid) return problemOf(check.error, source);
    return good({
      source,
      evaluate(values) {
        try {
          return good(parsed(values as Record<string, unknown>));
        } catch (error) {
          return failed(problemOf(error, source).reason);
        }
      },
    });
  } catch (error) {
    return problemOf(error, source);
  }
}

/**
 * The names among these that a formula uses, as the parser reads it: not what stands in texts or comments, nor the
 * names
 * that `all`, `map` and the like give to items, nor parts of something else. None for what is no formula.
 */
export function namesIn(source: string, names: readonly string[]): ReadonlySet<string> {
  const known = new Set(names);
  const found = new Set<string>();
  try {
    visitNames(baseEnvironment.clone().parse(source).ast, new Set(), (name) => known.has(name) && found.add(name));
  } catch {
    return new Set();
  }
  return found;
}

const macrosWithItem = new Set(['all', 'exists', 'exists_one', 'filter', 'map']);

function visitNames(node: unknown, items: ReadonlySet<string>, tell: (name: string) => void): void {
  if (Array.isArray(node)) {
    for (const part of node) visitNames(part, items, tell);
    return;
  }
  if (typeof node !== 'object' || node === null || !('op' in node)) return;
  const { op, args } = node as ASTNode;
  if (op === 'id') {
    if (!items.has(args as string)) tell(args as string);
  } else if (op === 'rcall') {
    const [name, receiver, given] = args as [string, ASTNode, readonly ASTNode[]];
    visitNames(receiver, items, tell);
    const item = macrosWithItem.has(name) && given[0]?.op === 'id' ? (given[0].args as string) : undefined;
    const within = item === undefined ? items : new Set([...items, item]);
    visitNames(item === undefined ? given : given.slice(1), within, tell);
  } else visitNames(args, items, tell);
}

/** What the parser says, in plain words where it is terse. */
const plainWords: readonly (readonly [RegExp, string])[] = [
  [/^Unexpected token: EOF$/, 'the formula ends too early'],
  [/^Expected RPAREN, got .*$/, 'a bracket is not closed'],
  [/^Expected RBRACKET, got .*$/, 'a square bracket is not closed'],
  [/^Unterminated string$/, 'a text is not closed'],
  [/^Unknown variable: (.*)$/, 'there is nothing called “$1” here'],
  [/^no such overload: (.*)$/, '$1 is not possible'],
  [/^Ternary condition must be bool, got '(.*)'$/, 'before the ? stands $1, and not a yes/no'],
  [/^Unexpected token: (.*)$/, '“$1” is not expected here'],
];

const ofTheLanguage = [
  'size',
  'has',
  'string',
  'int',
  'double',
  'bool',
  'startsWith',
  'endsWith',
  'contains',
  'split',
  'all',
  'exists',
  'filter',
  'map',
];
const isFunction = (name: string): boolean =>
  ofTheLanguage.includes(name) || formulaHelp.some(({ signature }) => signature.startsWith(`${name}(`));

const wordsOfTypes: Readonly<Record<string, string>> = {
  string: 'text',
  decimal: 'number',
  int: 'number',
  double: 'number',
  bool: 'yes/no',
  dyn: 'anything',
  null: 'blank',
};

function withPlainTypes(says: string): string {
  return says
    .replace(/(?<![“\w])(string|decimal|int|double|bool|dyn|null)(?![”\w])/g, (name) => wordsOfTypes[name] ?? name)
    .replace(/list<\w+>/g, 'list');
}

function problemOf(error: unknown, source: string): FormulaProblem {
  const { summary, range } = error as { summary?: unknown; range?: { start?: unknown; end?: unknown } };
  const terse = typeof summary === 'string' ? summary : messageOf(error);
  const known = plainWords.find(([pattern]) => pattern.test(terse));
  const [, called, taken] = /^found no matching overload for '(\w+)\((.*)\)'$/.exec(terse) ?? [];
  const ofCall =
    called === undefined
      ? undefined
      : isFunction(called)
        ? `${called} does not take (${taken ?? ''})`
        : `there is no function “${called}”`;
  const reason = withPlainTypes(ofCall ?? (known ? terse.replace(known[0], known[1]) : terse));
  if (typeof range?.start !== 'number' || typeof range.end !== 'number') return { ok: false, reason };
  // A formula whose blanks were marked is longer than what was typed; its places are not the person's.
  const from = Math.min(range.start, source.length);
  return {
    ok: false,
    reason: `${reason} (at character ${from + 1})`,
    range: { from, to: Math.min(Math.max(range.end, from), source.length) },
  };
}

/** The formula with each `null` outside of texts marked as being of any type. */
function nullOfAnyType(source: string): string {
  return source.replace(
    /("(?:\\.|[^"\\])*"|'(?:\\.|[^'\\])*')|\bnull\b/g,
    (found, text?: string) => text ?? (found === 'null' ? 'dyn(null)' : found),
  );
}

function messageOf(error: unknown): string {
  return error instanceof Error ? error.message.trim() : String(error);
}

/** A shared value as formulas see it: numbers as exact decimals, everything else as it is. */
export function sharedVariable(value: Shared | undefined, isNumber: boolean): unknown {
  if (value === undefined) return null;
  return isNumber && typeof value === 'string' ? (decimalOf(value) ?? value) : value;
}

/** A raw value as formulas see it: numbers as exact decimals at any depth. */
export function rawVariable(value: Raw | undefined): unknown {
  if (value === undefined || value === null) return null;
  if (typeof value === 'number') return toDecimal(value);
  if (isExactNumber(value)) return decimalOf(value.$number) ?? value.$number;
  if (Array.isArray(value)) return value.map((item: Raw) => rawVariable(item));
  if (typeof value === 'object')
    return Object.fromEntries(Object.entries(value).map(([name, item]) => [name, rawVariable(item)]));
  return value;
}

/** What a formula gave, as a raw value: numbers as plain decimal text wrapped so that nothing is rounded. */
export function rawResult(value: unknown): Outcome<Raw> {
  if (value === null || value === undefined) return good(null);
  if (typeof value === 'string' || typeof value === 'boolean') return good(value);
  if (value instanceof Decimal || typeof value === 'bigint' || typeof value === 'number') {
    const decimal = toDecimal(value);
    if (!decimal.isFinite()) return failed('the formula gave no finite number');
    const plain = decimal.toNumber();
    return good(String(plain) === decimal.toString() ? plain : { $number: decimal.toString() });
  }
  if (Array.isArray(value)) return good(value.map((item) => (typeof item === 'string' ? item : String(item))));
  return failed('the formula gave something that is neither text, number, yes/no nor list');
}
