import type { Environment } from '@marcbachmann/cel-js';
import { Decimal } from 'decimal.js';
import { WideDecimal } from '../record/index.js';

type Numeric = Decimal | bigint | number;

/** Doubles come from literals only; 15 significant digits are what a double holds without noise, so `0.1` stays 0.1. */
export function toDecimal(value: Numeric): Decimal {
  if (value instanceof Decimal) return value;
  return new WideDecimal(typeof value === 'number' ? Number(value.toPrecision(15)) : value.toString());
}

const arithmetic = { '+': 'plus', '-': 'minus', '*': 'times', '%': 'mod' } as const;
const comparisons = { '<': 'lt', '<=': 'lte', '>': 'gt', '>=': 'gte' } as const;

const decimalPairs = [
  ['decimal', 'decimal'],
  ['decimal', 'int'],
  ['int', 'decimal'],
  ['decimal', 'double'],
  ['double', 'decimal'],
] as const;
const literalPairs = [
  ['int', 'double'],
  ['double', 'int'],
] as const;

function divide(a: Numeric, b: Numeric): Decimal {
  const divisor = toDecimal(b);
  if (divisor.isZero()) throw new Error('division by zero');
  return toDecimal(a).div(divisor);
}

/**
 * Adds exact decimals to CEL, mixed with its integers and doubles, and blanks as people expect them:
 * a blank added to a number or a text changes nothing, a blank times or divided by anything is blank,
 * and every comparison with a blank is false.
 */
export function registerDecimalOperators(environment: Environment): void {
  environment.registerType('decimal', { ctor: WideDecimal, fields: {} });
  for (const [left, right] of [...decimalPairs, ...literalPairs]) {
    for (const [operator, method] of Object.entries(arithmetic)) {
      environment.registerOperator(`${left} ${operator} ${right}: decimal`, (a: Numeric, b: Numeric) => {
        if (operator === '%' && toDecimal(b).isZero()) throw new Error('division by zero');
        return toDecimal(a)[method](toDecimal(b));
      });
    }
    environment.registerOperator(`${left} / ${right}: decimal`, divide);
  }
  for (const [left, right] of decimalPairs) {
    for (const [operator, method] of Object.entries(comparisons)) {
      environment.registerOperator(`${left} ${operator} ${right}: bool`, (a: Numeric, b: Numeric) =>
        toDecimal(a)[method](toDecimal(b)),
      );
    }
    // CEL registers the mirrored form of == by itself.
    if (left === 'decimal')
      environment.registerOperator(`decimal == ${right}: bool`, (a: Numeric, b: Numeric) =>
        toDecimal(a).eq(toDecimal(b)),
      );
  }
  environment.registerOperator('-decimal: decimal', (a: Decimal) => a.neg());
  registerBlankOperators(environment);
}

function registerBlankOperators(environment: Environment): void {
  environment.registerOperator('string + null: string', (a: string) => a);
  environment.registerOperator('null + string: string', (_: null, b: string) => b);
  for (const type of ['decimal', 'int', 'double']) {
    environment.registerOperator(`${type} + null: ${type}`, (a: Numeric) => a);
    environment.registerOperator(`null + ${type}: ${type}`, (_: null, b: Numeric) => b);
    environment.registerOperator(`${type} - null: ${type}`, (a: Numeric) => a);
    environment.registerOperator(`null - ${type}: decimal`, (_: null, b: Numeric) => toDecimal(b).neg());
    for (const operator of ['*', '/', '%']) {
      environment.registerOperator(`${type} ${operator} null: null`, () => null);
      environment.registerOperator(`null ${operator} ${type}: null`, () => null);
    }
  }
  for (const type of ['decimal', 'int', 'double', 'string', 'bool', 'null']) {
    for (const operator of Object.keys(comparisons)) {
      environment.registerOperator(`null ${operator} ${type}: bool`, () => false);
      if (type !== 'null') environment.registerOperator(`${type} ${operator} null: bool`, () => false);
    }
  }
}
