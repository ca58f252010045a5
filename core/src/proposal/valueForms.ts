import { countryCode } from '../mapping/index.js';
import { decimalOf, isBlank, numberText, type Raw } from '../record/index.js';

/** What a value may be, told from the value alone. */
export type ValueKind = 'email' | 'url' | 'phone' | 'date' | 'yes/no' | 'number' | 'list' | 'text';

export interface ReadValue {
  readonly kind: ValueKind;
  /** The forms in which it is compared: values that share one are taken for equal. */
  readonly forms: readonly string[];
  readonly text: string;
}

const yesWords = new Set(['true', 'y', 'yes', 'ja', 'j', 'oui', 'si', 'sí', 'on', 'x']);
const noWords = new Set(['false', 'n', 'no', 'nein', 'non', 'nee', 'off']);
const earliestSeconds = Date.UTC(1990, 0, 1) / 1000;
const latestSeconds = Date.UTC(2050, 0, 1) / 1000;
/** Of a subscriber number, however the country and area are written. */
const comparedDigits = 9;

/** Reads one value without knowing what it is meant to be. `undefined` for a blank. */
export function readValue(raw: Raw): ReadValue | undefined {
  if (isBlank(raw)) return undefined;
  if (typeof raw === 'boolean') return { kind: 'yes/no', forms: [`b:${String(raw)}`], text: String(raw) };
  const number = numberText(raw);
  if (number !== undefined) return { kind: 'number', forms: numberForms(number), text: number };
  if (Array.isArray(raw)) {
    const items = raw
      .map((item: Raw) => folded(typeof item === 'string' ? item : (numberText(item) ?? JSON.stringify(item))))
      .sort();
    return { kind: 'list', forms: [`l:${items.join('|')}`], text: items.join(', ') };
  }
  if (typeof raw !== 'string') return { kind: 'text', forms: [`t:${JSON.stringify(raw)}`], text: JSON.stringify(raw) };
  return readText(raw.trim());
}

function readText(text: string): ReadValue {
  const plain = folded(text);
  const forms = [`t:${plain}`];
  if (/^[^\s@]+@[^\s@]+\.[^\s@]+$/.test(text)) return { kind: 'email', forms, text };
  if (/^(https?:\/\/|www\.)\S+$/i.test(text))
    return { kind: 'url', forms: [`t:${plain.replace(/^https? /, '').replace(/^www /, '')}`], text };
  const days = daysOf(text);
  if (days.length > 0) return { kind: 'date', forms: days, text };
  if (yesWords.has(plain) || noWords.has(plain))
    return { kind: 'yes/no', forms: [...forms, `b:${String(yesWords.has(plain))}`], text };
  const digits = text.replaceAll(/\D/g, '');
  // Before numbers, which may be grouped with blanks too: only a phone number begins with a plus or a zero.
  if (digits.length >= 7 && digits.length <= 15 && /^[+(0][\d\s()/.-]+$/.test(text))
    return { kind: 'phone', forms: [`p:${digits.slice(-comparedDigits)}`], text };
  const decimal = decimalIn(text);
  if (decimal !== undefined && !/^0\d/.test(text))
    return { kind: 'number', forms: [...forms, ...numberForms(decimal)], text };
  const country = text.length <= 40 && /^\p{Lu}/u.test(text) ? countryCode(text) : undefined;
  return { kind: 'text', forms: country ? [...forms, `c:${country}`] : forms, text };
}

/** Without marks, case and punctuation. */
export function folded(text: string): string {
  return text
    .normalize('NFKD')
    .replaceAll(/\p{M}/gu, '')
    .toLowerCase()
    .replaceAll(/[^\p{L}\p{N}]+/gu, ' ')
    .trim();
}

/** The calendar days that a text may mean: two where day and month could be either. */
function daysOf(text: string): string[] {
  const iso = /^(\d{4}-\d\d-\d\d)(?:[T ]\d\d:\d\d.*)?$/.exec(text);
  if (iso) return [`d:${iso[1]}`];
  const local = /^(\d{1,2})[./-](\d{1,2})[./-](\d{4})(?: \d\d:\d\d.*)?$/.exec(text);
  if (!local) return [];
  const [first, second, year] = [Number(local[1]), Number(local[2]), local[3] ?? ''];
  const day = (month: number, date: number): string[] =>
    month <= 12 && date <= 31 ? [`d:${year}-${String(month).padStart(2, '0')}-${String(date).padStart(2, '0')}`] : [];
  return [...new Set([...day(second, first), ...day(first, second)])];
}

/** Plain decimal text of a number with a point or a comma, grouped or not. */
function decimalIn(text: string): string | undefined {
  if (!/^[+-]?[\d.,\s']+$/.test(text) || !/\d/.test(text)) return undefined;
  const bare = text.replaceAll(/[\s']/g, '');
  const comma = /^[+-]?\d{1,3}(\.\d{3})*,\d+$|^[+-]?\d+,\d+$/.test(bare);
  return decimalOf(
    comma ? bare.replaceAll('.', '').replace(',', '.') : bare.replaceAll(/,(?=\d{3}\b)/g, ''),
  )?.toString();
}

function numberForms(text: string): string[] {
  const decimal = decimalOf(text);
  if (!decimal) return [`n:${text}`];
  const seconds = decimal.toNumber();
  const isTime =
    Number.isInteger(seconds) && seconds > earliestSeconds && seconds < latestSeconds && text.length === 10;
  return [`n:${decimal.toString()}`, ...(isTime ? [`d:${new Date(seconds * 1000).toISOString().slice(0, 10)}`] : [])];
}

/** The number that a value is, for scales; `undefined` where it is none. */
export function numberIn(raw: Raw): number | undefined {
  const text = numberText(raw) ?? (typeof raw === 'string' ? decimalIn(raw.trim()) : undefined);
  return text === undefined ? undefined : Number(text);
}
