/**
 * Shared values: values in the knot's own form, in normal form by type.
 *
 * | type | form |
 * | --- | --- |
 * | text, email, phone, choice | string, Unicode NFC, trimmed; phones in E.164 |
 * | reference | the id of an anchor of this or another knot |
 * | note | string, NFC, line ends as \n, not trimmed inside, ends trimmed |
 * | number | decimal text in plain notation, no trailing zeros: `12500.5` | | yes/no | boolean | | date | ISO 8601
 * calendar date `YYYY-MM-DD` | | instant | ISO 8601 in UTC with milliseconds | | list | strings, trimmed; as a set
 * (sorted, no repeats) |
 *
 * `null` is *blank*. `undefined` never is a shared value.
 */
import { Decimal } from 'decimal.js';
import type { Wanted } from './reference.js';

export const fieldTypes = [
  'text',
  'note',
  'email',
  'phone',
  'choice',
  'number',
  'yes/no',
  'date',
  'instant',
  'list',
  'reference',
] as const;
export type FieldType = (typeof fieldTypes)[number];

export type Shared = null | boolean | string | readonly string[];

/**
 * Decimals wide enough that sums of money never round: 40 significant digits, never in exponent notation below 1e40.
 */
export const WideDecimal = Decimal.clone({ precision: 40, toExpNeg: -40, toExpPos: 40 });

export type Outcome<T> =
  | { readonly ok: true; readonly value: T }
  /** `waitsFor`: it will go by itself, as soon as that is there. */
  | { readonly ok: false; readonly reason: string; readonly waitsFor?: Wanted | undefined };

export function good<T>(value: T): Outcome<T> {
  return { ok: true, value };
}
export function failed(reason: string, waitsFor?: Wanted): Outcome<never> {
  return waitsFor ? { ok: false, reason, waitsFor } : { ok: false, reason };
}

/** Printable ASCII without blanks at its ends is in normal form already, and most text is. */
const isPlainText = /^(?:[!-~](?:[ -~]*[!-~])?)?$/;
const plainNumber = /^[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d{1,3})?$/;

/** A decimal from plain or exponent notation; `undefined` for any other text. Never NaN or infinite. */
export function decimalOf(text: string): Decimal | undefined {
  const trimmed = text.trim();
  return plainNumber.test(trimmed) && trimmed.length <= 120 ? new WideDecimal(trimmed) : undefined;
}

function show(value: unknown): string {
  const text = typeof value === 'string' ? `“${shortened(value)}”` : JSON.stringify(value);
  return text ?? String(value);
}

function shortened(text: string): string {
  return text.length > 60 ? `${text.slice(0, 59)}…` : text;
}

/**
 * Brings a value into the normal form of its type.
 * @returns the value, `null` for blank, or the reason why it cannot be one of that type.
 */
export function normalise(type: FieldType, value: unknown): Outcome<Shared> {
  if (value === null || value === undefined) return good(null);
  switch (type) {
    case 'text':
    case 'email':
    case 'phone':
    case 'choice':
    case 'reference':
    case 'note': {
      if (typeof value === 'object') return failed(`${show(value)} is not a text`);
      const given = String(value);
      if (isPlainText.test(given)) return good(given === '' ? null : given);
      let text = given.normalize('NFC').trim();
      if (type === 'note') text = text.replaceAll('\r\n', '\n');
      // PostgreSQL text and JSON cannot hold U+0000, and no business system means anything by it.
      text = text.replaceAll('\u0000', '').toWellFormed();
      return good(text === '' ? null : text);
    }
    case 'number': {
      if (typeof value === 'boolean' || (typeof value === 'object' && !(value instanceof Decimal)))
        return failed(`${show(value)} is not a number`);
      if (String(value).trim() === '') return good(null);
      const decimal = decimalOf(value instanceof Decimal ? value.toString() : String(value));
      return decimal ? good(decimal.isZero() ? '0' : decimal.toString()) : failed(`${show(value)} is not a number`);
    }
    case 'yes/no':
      if (typeof value === 'boolean') return good(value);
      return value === '' ? good(null) : failed(`${show(value)} is neither yes nor no`);
    case 'date': {
      if (value === '') return good(null);
      const text = String(value);
      return /^\d{4}-\d\d-\d\d$/.test(text) && isCalendarDate(text)
        ? good(text)
        : failed(`${show(value)} is not a date`);
    }
    case 'instant': {
      if (value === '') return good(null);
      const time =
        typeof value === 'string' && /^\d{4}-\d\d-\d\dT.*(Z|[+-]\d\d:?\d\d)$/.test(value)
          ? Date.parse(value)
          : Number.NaN;
      return Number.isNaN(time)
        ? failed(`${show(value)} is not a date and time with a zone`)
        : good(new Date(time).toISOString());
    }
    case 'list': {
      const items = Array.isArray(value) ? value : [value];
      const texts = items
        .filter((item) => item !== null && typeof item !== 'object')
        .map((item) => String(item).normalize('NFC').trim());
      const set = [...new Set(texts.filter((item) => item !== ''))].sort();
      return good(set.length === 0 ? null : set);
    }
    default:
      return failed(`unknown type ${String(type satisfies never)}`);
  }
}

function isCalendarDate(text: string): boolean {
  const time = Date.parse(`${text}T00:00:00Z`);
  return !Number.isNaN(time) && new Date(time).toISOString().startsWith(text);
}

/** Equality of two shared values that are in normal form. `undefined` means: there is none. */
export function sameShared(a: Shared | undefined, b: Shared | undefined): boolean {
  if (a === b) return true;
  if (!Array.isArray(a) || !Array.isArray(b)) return false;
  return a.length === b.length && a.every((item, index) => item === b[index]);
}

/** A stable text of a shared value, for use as a map key. */
export function sharedKey(value: Shared): string {
  return JSON.stringify(value);
}
