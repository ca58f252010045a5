import type { Raw } from '@anchor-knot/core';
import { isExactNumber } from '@anchor-knot/core';
import { parse, stringify } from 'lossless-json';

const quote = 34;
const backslash = 92;
const minus = 45;
const plus = 43;
const point = 46;
const zero = 48;
const nine = 57;
const mostSafeDigits = 15;

/**
 * Whether a text holds a number literal that a JavaScript number would change: of more than 15 digits, with a zero at
 * the
 * end after the point, with an exponent, or minus zero. Strings are leapt over, so that most of the text is not looked
 * at.
 */
function hasDelicateNumber(text: string): boolean {
  for (let at = 0; at < text.length; at += 1) {
    const code = text.charCodeAt(at);
    if (code === quote) at = endOfString(text, at);
    else if (code === minus || (code >= zero && code <= nine)) {
      let hasPoint = false;
      let end = at + 1;
      for (; end < text.length; end += 1) {
        const next = text.charCodeAt(end);
        if (next === point) hasPoint = true;
        // Exponents: e and E, and their sign.
        else if (next === 101 || next === 69 || next === plus || next === minus) return true;
        else if (next < zero || next > nine) break;
      }
      if (end - at > mostSafeDigits) return true;
      if (hasPoint && text.charCodeAt(end - 1) === zero) return true;
      if (code === minus && end - at === 2 && text.charCodeAt(end - 1) === zero) return true;
      at = end - 1;
    }
  }
  return false;
}

/** @param start where the string's first quote is. @returns where its last one is */
function endOfString(text: string, start: number): number {
  for (let end = text.indexOf('"', start + 1); end !== -1; end = text.indexOf('"', end + 1)) {
    let backslashes = 0;
    while (text.charCodeAt(end - 1 - backslashes) === backslash) backslashes += 1;
    if (backslashes % 2 === 0) return end;
  }
  return text.length;
}

/**
 * Parses JSON without losing a digit: numbers that need it become exact numbers (RFC 8259 leaves precision to us).
 * @throws {SyntaxError}
 */
export function parseExactJson(text: string): Raw {
  if (!hasDelicateNumber(text)) return JSON.parse(text) as Raw;
  return parse(text, undefined, {
    parseNumber: (digits: string) => (String(Number(digits)) === digits ? Number(digits) : { $number: digits }),
  }) as Raw;
}

/** JSON text with exact numbers written as they were sent. */
export function stringifyExactJson(value: Raw): string {
  return (
    stringify(value, undefined, undefined, [
      { test: isExactNumber, stringify: (number) => (number as { $number: string }).$number },
    ]) ?? 'null'
  );
}
