import { Environment } from '@marcbachmann/cel-js';
import { Decimal } from 'decimal.js';
import { decimalOf, failed, good, isExactNumber, type Outcome, type Raw, type Shared } from '../record/index.js';
import { registerDecimalOperators, toDecimal } from './decimalOperators.js';
import { registerFunctions } from './functions.js';

/**
 * Formulas are written in the Common Expression Language (CEL, the open specification by Google),
 * with exact decimals, blanks that do not break a formula, and the functions in `functions.ts`.
 */
export interface Formula {
  readonly source: string;
  /** Evaluates with the given variables. Never throws: a failing formula is an outcome with the reason. */
  evaluate(variables: Readonly<Record<string, unknown>>): Outcome<unknown>;
}

const longestFormula = 4000;
const baseEnvironment = makeEnvironment();

function makeEnvironment(): Environment {
  const environment = new Environment({
    homogeneousAggregateLiterals: false,
    limits: { maxAstNodes: 2000, maxDepth: 100, maxListElements: 1000, maxMapEntries: 200, maxCallArguments: 16 },
  });
  registerDecimalOperators(environment);
  registerFunctions(environment);
  return environment;
}

/**
 * Reads a formula and checks it against the names it may use.
 * @param variables the names that will be given at evaluation
 * @returns the formula, or the reason (with the place) why it is not one
 */
export function readFormula(source: string, variables: readonly string[]): Outcome<Formula> {
  if (source.trim() === '') return failed('the formula is empty');
  if (source.length > longestFormula) return failed(`the formula has ${source.length} characters; ${longestFormula} are allowed`);
  // CEL's own `matches` runs on a backtracking engine, which a crafted value can stall for minutes.
  if (/\bmatches\s*\(/.test(source)) return failed('use fits(text, pattern) instead of matches: it takes the same time for every text');
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
    if (!check.valid) return failed(messageOf(check.error));
    return good({
      source,
      evaluate(values) {
        try {
          return good(parsed(values as Record<string, unknown>));
        } catch (error) {
          return failed(messageOf(error));
        }
      },
    });
  } catch (error) {
    return failed(messageOf(error));
  }
}

/** The formula with each `null` outside of texts marked as being of any type. */
function nullOfAnyType(source: string): string {
  return source.replace(/("(?:\\.|[^"\\])*"|'(?:\\.|[^'\\])*')|\bnull\b/g, (found, text?: string) => text ?? (found === 'null' ? 'dyn(null)' : found));
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
  if (typeof value === 'object') return Object.fromEntries(Object.entries(value).map(([name, item]) => [name, rawVariable(item)]));
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
