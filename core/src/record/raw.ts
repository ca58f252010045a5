/**
 * Raw values: what a member holds, in the member's own form.
 *
 * Raw values are JSON. A number that a JavaScript number cannot carry unchanged
 * (a 20-digit id, `1.10`) is an {@link ExactNumber}, so that it is written back as it was sent.
 */

/** A number kept as the text that the system sent. Plain data: it survives JSON and structured clone. */
export interface ExactNumber {
  readonly $number: string;
}

export type Raw = null | boolean | number | string | ExactNumber | readonly Raw[] | { readonly [name: string]: Raw };

/** A raw value, or `undefined` when the system did not send the field (*absent*). */
export type Present = Raw | undefined;

export function isExactNumber(value: unknown): value is ExactNumber {
  return typeof value === 'object' && value !== null && typeof (value as ExactNumber).$number === 'string';
}

/** The text of a raw number, as sent; `undefined` for anything that is not a number. */
export function numberText(value: Present): string | undefined {
  if (typeof value === 'number') return String(value);
  return isExactNumber(value) ? value.$number : undefined;
}

/** A text as it is, or a number as sent; `undefined` for anything else. What keys and versions are made of. */
export function scalarText(value: Present): string | undefined {
  return typeof value === 'string' ? value : numberText(value);
}

/** True when the system says *empty*: null, an empty or all-whitespace text, an empty list. */
export function isBlank(value: Raw): boolean {
  if (value === null) return true;
  if (typeof value === 'string') return value.trim() === '';
  return Array.isArray(value) && value.length === 0;
}

/** Structural equality of raw values. Object keys in any order; numbers by their text as sent. */
export function rawEqual(a: Present, b: Present): boolean {
  if (a === b) return true;
  if (a === undefined || b === undefined || a === null || b === null) return false;
  const textOfA = numberText(a);
  if (textOfA !== undefined) return textOfA === numberText(b);
  if (typeof a !== 'object' || typeof b !== 'object') return false;
  if (Array.isArray(a) || Array.isArray(b)) {
    if (!Array.isArray(a) || !Array.isArray(b) || a.length !== b.length) return false;
    return a.every((item, index) => rawEqual(item as Raw, b[index] as Raw));
  }
  const left = a as Record<string, Raw>;
  const right = b as Record<string, Raw>;
  const names = Object.keys(left);
  if (names.length !== Object.keys(right).length) return false;
  return names.every((name) => Object.hasOwn(right, name) && rawEqual(left[name], right[name]));
}

/** A short text for people: what the system sent, at most `limit` characters. */
export function showRaw(value: Present, limit = 200): string {
  if (value === undefined) return 'not sent';
  const exact = isExactNumber(value) ? value.$number : undefined;
  const text = exact ?? (typeof value === 'string' ? value : JSON.stringify(value));
  return text.length > limit ? `${text.slice(0, limit - 1)}…` : text;
}

/**
 * The value without what no store of JSON can keep: U+0000 and halves of surrogate pairs (PostgreSQL refuses both in
 * jsonb). Gives the very same value where there is nothing to take out.
 */
export function storable(value: Raw): Raw {
  if (typeof value === 'string') {
    if (!value.includes('\u0000') && value.isWellFormed()) return value;
    return value.replaceAll('\u0000', '').toWellFormed();
  }
  if (typeof value !== 'object' || value === null) return value;
  if (Array.isArray(value)) {
    const items = value as readonly Raw[];
    return items.some((item) => storable(item) !== item) ? items.map(storable) : items;
  }
  const entries = Object.entries(value as Readonly<Record<string, Raw>>);
  return entries.some(([, item]) => storable(item) !== item)
    ? Object.fromEntries(entries.map(([name, item]) => [name, storable(item)]))
    : value;
}
