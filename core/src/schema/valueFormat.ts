import { isExactNumber, type Raw } from '../record/index.js';
import type { SourceType } from './schema.js';

const longestFormat = 40;

/** What kind of value one raw value is; `undefined` for a blank. */
export function typeOfValue(value: Raw): SourceType | undefined {
  if (value === null) return undefined;
  if (typeof value === 'boolean') return 'yes/no';
  if (typeof value === 'number' || isExactNumber(value)) return 'number';
  if (Array.isArray(value)) return value.length === 0 ? undefined : 'list';
  if (typeof value !== 'string') return 'mixed';
  if (value.trim() === '') return undefined;
  if (/^\d{4}-\d\d-\d\d$/.test(value)) return 'date';
  if (/^\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?( ?(Z|[+-]\d\d:?\d\d))?$/.test(value)) return 'instant';
  return 'text';
}

/**
 * The form of a text: each digit as `9`, each run of letters as `a`, `A` or `Aa` by its case, all else as it is. So
 * `A-20051` has the form `A-99999`, and `+44 1632 960471` the form `+99 9999 999999`.
 */
export function formatOf(text: string): string {
  const start = text.length > longestFormat * 2 ? text.slice(0, longestFormat * 2) : text;
  const format = isAscii.test(start) ? asciiForm(start) : unicodeForm(start);
  // Sentences differ in their number of words: their form is that of words, whatever their number.
  const words =
    format.includes('a ') || format.includes('A ')
      ? format.replaceAll(/\b(?:Aa|A|a)(?: (?:Aa|A|a))+\b/g, (run) => `${run.split(' ', 1)[0] ?? ''} …`)
      : format;
  return words.length > longestFormat ? `${words.slice(0, longestFormat - 1)}…` : words;
}

const isAscii = /^\p{ASCII}*$/u;

function unicodeForm(text: string): string {
  return text
    .replaceAll(/\p{Nd}/gu, '9')
    .replaceAll(/[\p{L}\p{M}]+/gu, (word) => (/^\p{Lu}+$/u.test(word) ? 'A' : /^\p{Lu}/u.test(word) ? 'Aa' : 'a'))
    .replaceAll(/\s+/g, ' ');
}

/** The same for ASCII, character by character: most values are, and a profile looks at every one of them. */
function asciiForm(text: string): string {
  let form = '';
  for (let at = 0; at < text.length;) {
    const code = text.charCodeAt(at);
    if (code >= 48 && code <= 57) form += '9';
    else if (isLetter(code)) {
      const start = at;
      let lower = 0;
      while (at < text.length && isLetter(text.charCodeAt(at))) {
        if (text.charCodeAt(at) >= 97) lower += 1;
        at += 1;
      }
      form += lower === 0 ? 'A' : text.charCodeAt(start) < 97 ? 'Aa' : 'a';
      continue;
    } else if (code === 32 || (code >= 9 && code <= 13)) {
      if (!form.endsWith(' ')) form += ' ';
    } else form += text[at] ?? '';
    at += 1;
  }
  return form;
}

function isLetter(code: number): boolean {
  return (code >= 65 && code <= 90) || (code >= 97 && code <= 122);
}
