import type { Raw } from '@anchor-knot/core';
import { isExactNumber } from '@anchor-knot/core';
import { parse, stringify } from 'lossless-json';

/**
 * A number literal that a JavaScript number would change: more than 15 digits, a trailing zero after the point, an
 * exponent. It may also find such a thing inside a text, which costs time and nothing else.
 */
const delicateNumber = /[:,[\s]-?(?:\d{16,}|\d*\.\d{15,}|\d+\.\d*0|\d+(?:\.\d+)?[eE][+-]?\d+)(?=\s*[,}\]])/;
const minusZero = /[:,[\s]-0(?:\.0*)?(?=\s*[,}\]])/;

/** Parses JSON without losing a digit: numbers that need it become exact numbers (RFC 8259 leaves precision to us). @throws {SyntaxError} */
export function parseExactJson(text: string): Raw {
  if (!delicateNumber.test(text) && !minusZero.test(text)) return JSON.parse(text) as Raw;
  return parse(text, undefined, { parseNumber: (digits: string) => (String(Number(digits)) === digits ? Number(digits) : { $number: digits }) }) as Raw;
}

/** JSON text with exact numbers written as they were sent. */
export function stringifyExactJson(value: Raw): string {
  return stringify(value, undefined, undefined, [{ test: isExactNumber, stringify: (number) => (number as { $number: string }).$number }]) ?? 'null';
}
