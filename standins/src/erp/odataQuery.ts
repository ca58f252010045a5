import { defaultParser, type Token } from '@odata/parser';
import { type Column, Refusal } from './odataSets.js';

/** `$filter` and `$orderby` (OASIS, OData Version 4.01, URL Conventions) as SQL. */

export function orderOf(
  text: string | undefined,
  columns: readonly Column[],
  key: string,
): { column: string; descending: boolean }[] {
  const order = (text ?? '')
    .split(',')
    .filter((part) => part.trim() !== '')
    .map((part) => {
      const [property = '', direction = 'asc'] = part.trim().split(/\s+/);
      return { column: columnOf(property, columns).column, descending: direction === 'desc' };
    });
  // By the key at last, so that pages do not overlap.
  return order.some(({ column }) => column === key) ? order : [...order, { column: key, descending: false }];
}

function columnOf(property: string, columns: readonly Column[]): Column {
  const found = columns.find((one) => one.property === property);
  if (!found) throw new Refusal(400, 'UnknownProperty', `there is no property "${property}"`);
  return found;
}

export function parsed(filter: string): Token {
  try {
    return defaultParser.filter(filter);
  } catch {
    throw new Refusal(400, 'BadFilter', `the filter cannot be read: ${filter.slice(0, 100)}`);
  }
}

const comparisons: Readonly<Record<string, string>> = {
  EqualsExpression: '=',
  NotEqualsExpression: '<>',
  GreaterThanExpression: '>',
  GreaterOrEqualsExpression: '>=',
  LesserThanExpression: '<',
  LesserOrEqualsExpression: '<=',
};

/** A filter as SQL; its values go to `values`, never into the text. */
export function condition(token: Token, columns: readonly Column[], values: unknown[]): string {
  const type = String(token.type);
  const value = token.value as { left: Token; right: Token; method: string; parameters: Token[] };
  if (type === 'AndExpression' || type === 'OrExpression')
    return (
      `(${condition(value.left, columns, values)} ${type === 'AndExpression' ? 'and' : 'or'} ` +
      `${condition(value.right, columns, values)})`
    );
  if (type === 'BoolParenExpression' || type === 'ParenExpression' || type === 'CommonExpression')
    return condition(token.value as Token, columns, values);
  if (type === 'NotExpression') return `not ${condition(token.value as Token, columns, values)}`;
  const operator = comparisons[type];
  if (operator) {
    const { column } = columnOf(value.left.raw, columns);
    const literal = literalOf(value.right);
    if (literal === null) return `source.${column} is ${operator === '=' ? '' : 'not '}null`;
    return `source.${column} ${operator} $${values.push(literal)}`;
  }
  if (type === 'MethodCallExpression') {
    const [field, literal] = value.parameters;
    const patterns: Readonly<Record<string, (text: string) => string>> = {
      contains: (text) => `%${text}%`,
      startswith: (text) => `${text}%`,
      endswith: (text) => `%${text}`,
    };
    const pattern = patterns[value.method];
    if (pattern && field && literal)
      return (
        `source.${columnOf(field.raw, columns).column}::text like ` +
        `$${values.push(pattern(String(literalOf(literal)).replaceAll(/[\\%_]/g, '\\$&')))}`
      );
  }
  throw new Refusal(501, 'NotImplemented', `${token.raw.slice(0, 60)} is not implemented in filters`);
}

function literalOf(token: Token): string | null {
  if (token.raw === 'null') return null;
  const quoted = /^'((?:[^']|'')*)'$/s.exec(token.raw)?.[1];
  return quoted === undefined ? token.raw : quoted.replaceAll("''", "'");
}
