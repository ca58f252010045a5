import { type ComparisonKind, comparisonLevels } from '../definition/index.js';
import { decimalOf } from '../record/index.js';
import { isOneEdit } from './compare/edits.js';
import { jaroWinkler } from './compare/jaroWinkler.js';
import { soundex } from './compare/soundex.js';
import { dice, holdsAll } from './compare/tokens.js';
import { addressWords } from './normalise/address.js';
import { companyWords } from './normalise/companyName.js';
import { callingCodeOf, emailForm, phoneForm } from './normalise/contact.js';
import { fold, tokensOf } from './normalise/fold.js';
import { fullForms, personWords } from './normalise/personName.js';

/** A value made ready for comparing: its form (equal forms are the same value), and what its kind looks at besides. */
export interface Prepared {
  readonly form: string;
  readonly words: readonly string[];
  /** Another spelling of the form: words as written, or a number in it. */
  readonly also: string;
}

export interface Comparison {
  /** What each level says, from the least alike to the same. Level 0 is *differs*, the last is *same*. */
  readonly levels: readonly string[];
  /** `undefined` for what counts as missing: blank, or not of this kind. */
  prepare(text: string): Prepared | undefined;
  level(a: Prepared, b: Prepared): number;
  /** Short texts, of which values that are the same but for an error share at least one. */
  hints(value: Prepared): readonly string[];
}

/** Limits of Jaro and Winkler's measure from which names are alike, and somewhat alike. */
const [alike, somewhatAlike] = [0.92, 0.82];
const mostHints = 3;
/** A single name of a person with one typing error reaches this. */
const nameAlike = 0.85;
/** One edit makes too many other names of a shorter one. */
const leastWithError = 4;

function byWinkler(a: Prepared, b: Prepared): number {
  const closeness = Math.max(jaroWinkler(a.form, b.form), a.also === b.also ? 1 : jaroWinkler(a.also, b.also));
  return closeness >= alike ? 2 : closeness >= somewhatAlike ? 1 : 0;
}

const personName: Comparison = {
  levels: comparisonLevels['person name'],
  prepare(text) {
    const words = fullForms(personWords(text));
    if (words.length === 0) return undefined;
    // Given and family names that changed places are the same words in another order.
    return { form: words.toSorted().join(' '), words, also: '' };
  },
  level(a, b) {
    if (a.form === b.form) return 4;
    const [short, long] = a.words.length <= b.words.length ? [a.words, b.words] : [b.words, a.words];
    const alikes = namesAlike(short, long);
    // One side may have written two names as one.
    if (alikes === short.length) return short.length === 1 && long.length > 1 ? 2 : 3;
    return alikes > 0 ? 1 : short.length < long.length && jaroWinkler(a.form, b.form) >= alike ? 2 : 0;
  },
  hints: ({ words }) => words.slice(0, mostHints).map(soundex),
};

/** How many of the names find one on the other side that is alike, or that one is an initial of. */
function namesAlike(short: readonly string[], long: readonly string[]): number {
  let used = 0;
  let count = 0;
  // Indices, not iterators: this is where matching spends its time.
  for (let at = 0; at < short.length; at += 1) {
    const name = short[at] as string;
    let best = -1;
    let closest = 0;
    for (let place = 0; place < long.length; place += 1) {
      const other = long[place] as string;
      if ((used & (1 << place)) !== 0) continue;
      const closeness = nameCloseness(name, other);
      if (closeness < nameAlike || closeness <= closest) continue;
      best = place;
      closest = closeness;
    }
    if (best < 0) continue;
    used |= 1 << best;
    count += 1;
  }
  return count;
}

function nameCloseness(a: string, b: string): number {
  if (a === b) return 1;
  if (isInitial(a, b)) return nameAlike;
  // A name half as long as another is not the same with an error.
  if (a.length * 2 <= b.length || b.length * 2 <= a.length) return 0;
  // Jaro's measure is hard on short names, and on an error in the first letter.
  return Math.max(
    jaroWinkler(a, b),
    a.length >= leastWithError && b.length >= leastWithError && isOneEdit(a, b) ? nameAlike : 0,
  );
}

const isInitial = (a: string, b: string): boolean =>
  (a.length === 1 && b.startsWith(a)) || (b.length === 1 && a.startsWith(b));

const companyName: Comparison = {
  levels: comparisonLevels['company name'],
  prepare(text) {
    const words = companyWords(text);
    return words.length === 0 ? undefined : { form: words.join(' '), words, also: words.toSorted().join(' ') };
  },
  level(a, b) {
    if (a.form === b.form || a.also === b.also) return 3;
    const closeness = byWinkler(a, b);
    if (closeness === 2 || isOneEdit(a.form, b.form) || holdsAll(a.words, b.words)) return 2;
    return closeness === 1 || dice(a.words, b.words) >= 0.5 ? 1 : 0;
  },
  hints: ({ words }) => words.slice(0, 2).map(soundex),
};

const phone: Comparison = {
  levels: comparisonLevels.phone,
  prepare(text) {
    const form = phoneForm(text);
    return form === undefined ? undefined : { form, words: [], also: callingCodeOf(text) };
  },
  level(a, b) {
    if (a.also !== b.also && a.also !== '' && b.also !== '') return 0;
    return a.form === b.form ? 2 : isOneEdit(a.form, b.form) ? 1 : 0;
  },
  hints: ({ form }) => [form.slice(-4), form.slice(0, -4)],
};

const email: Comparison = {
  levels: comparisonLevels.email,
  prepare(text) {
    const form = emailForm(text);
    return form === undefined ? undefined : { form, words: [], also: form.slice(form.indexOf('@')) };
  },
  level: (a, b) => (a.form === b.form ? 3 : isOneEdit(a.form, b.form) ? 2 : a.also === b.also ? 1 : 0),
  hints: ({ form, also }) => [form.slice(0, 4), also],
};

const address: Comparison = {
  levels: comparisonLevels.address,
  prepare(text) {
    const words = addressWords(text);
    if (words.length === 0) return undefined;
    return { form: words.toSorted().join(' '), words, also: words.find((word) => /\d/.test(word)) ?? '' };
  },
  level(a, b) {
    if (a.form === b.form) return 3;
    const common = dice(a.words, b.words);
    const isInPart = common >= 0.5 || holdsAll(a.words, b.words);
    const sameNumber = a.also === '' || b.also === '' || a.also === b.also;
    // A postcode says nothing against the street beside it; nor does a house number that was written into the street.
    if (!sameNumber && !isOneEdit(a.also, b.also)) return isInPart && sharesNumber(a.words, b.words) ? 1 : 0;
    if (sameNumber && common >= 0.75) return 2;
    const closeness = jaroWinkler(a.form, b.form);
    if (sameNumber && closeness >= alike) return 2;
    return isInPart || closeness >= alike || (sameNumber && closeness >= somewhatAlike) ? 1 : 0;
  },
  hints({ words, also }) {
    const street = words.find((word) => !/\d/.test(word));
    // The last number is the house's or belongs to the postcode, as the other record has it too.
    const last = words.findLast((word) => word !== also && /\d/.test(word));
    return [also, last ?? '', street === undefined ? '' : soundex(street)].filter((hint) => hint !== '');
  },
};

const sharesNumber = (a: readonly string[], b: readonly string[]): boolean =>
  a.some((word) => /\d/.test(word) && b.includes(word));

const isoDate = /^(\d{4})-(\d\d)-(\d\d)/;

const date: Comparison = {
  levels: comparisonLevels.date,
  prepare(text) {
    const [form] = isoDate.exec(text.trim()) ?? [];
    return form === undefined
      ? undefined
      : { form, words: [`${form.slice(0, 5)}${form.slice(8)}-${form.slice(5, 7)}`], also: form.slice(0, 7) };
  },
  level(a, b) {
    if (a.form === b.form) return 3;
    if (differingCharacters(a.form, b.form) === 1 || a.words[0] === b.form) return 2;
    return a.also === b.also ? 1 : 0;
  },
  hints: ({ form }) => [form.slice(0, 4), form.slice(5)],
};

function differingCharacters(a: string, b: string): number {
  let count = a.length === b.length ? 0 : 99;
  for (let at = 0; at < a.length && count < 2; at += 1) if (a.charCodeAt(at) !== b.charCodeAt(at)) count += 1;
  return count;
}

const number: Comparison = {
  levels: comparisonLevels.number,
  prepare(text) {
    const value = decimalOf(text);
    return value ? { form: value.toString(), words: [], also: '' } : undefined;
  },
  level(a, b) {
    if (a.form === b.form) return 3;
    const [x, y] = [Number(a.form), Number(b.form)];
    const apart = Math.abs(x - y) / Math.max(Math.abs(x), Math.abs(y));
    return apart <= 0.01 ? 2 : apart <= 0.1 ? 1 : 0;
  },
  hints: ({ form }) => [form.replaceAll(/[^1-9]/g, '').slice(0, 2)],
};

const text: Comparison = {
  levels: comparisonLevels.text,
  prepare(given) {
    const words = tokensOf(given);
    return words.length === 0 ? undefined : { form: words.join(' '), words, also: '' };
  },
  level(a, b) {
    if (a.form === b.form) return 3;
    const common = dice(a.words, b.words);
    return common >= 0.8 ? 2 : common >= 0.4 || jaroWinkler(a.form, b.form) >= alike ? 1 : 0;
  },
  hints: ({ words }) => words.slice(0, 2).map((word) => word.slice(0, 4)),
};

const exact: Comparison = {
  levels: comparisonLevels.exact,
  prepare(given) {
    const form = fold(given);
    return form === '' ? undefined : { form, words: [], also: '' };
  },
  level: (a, b) => (a.form === b.form ? 1 : 0),
  hints: ({ form }) => [form],
};

/** A postcode, a registration number: letters and digits, of which one may be wrong. */
const code: Comparison = {
  levels: comparisonLevels.code,
  prepare(given) {
    const form = fold(given).replaceAll(/[^\p{L}\p{N}]/gu, '');
    return form === '' ? undefined : { form, words: [], also: '' };
  },
  level: (a, b) => (a.form === b.form ? 2 : isOneEdit(a.form, b.form) ? 1 : 0),
  // One wrong character leaves one of the halves whole.
  hints: ({ form }) => [`<${form.slice(0, form.length >> 1)}`, `>${form.slice(form.length >> 1)}`],
};

const comparisons: Readonly<Record<ComparisonKind, Comparison>> = {
  exact,
  code,
  'person name': personName,
  'company name': companyName,
  phone,
  email,
  address,
  date,
  number,
  text,
};

export function comparisonOf(kind: ComparisonKind): Comparison {
  return comparisons[kind];
}
