import { distance } from 'fastest-levenshtein';
import { longestWord, notionsOf } from './tradeWords.js';

/** What a field's name says: its parts, each with the notions that it may stand for. */
export interface NamePart {
  readonly text: string;
  readonly notions: readonly number[];
}

/** Parts that say little about which field it is. */
const faint = new Set([
  'id',
  'number',
  'no',
  'code',
  'date',
  'at',
  'on',
  'of',
  'the',
  'is',
  'has',
  'de',
  'le',
  'name',
  'nm',
  'value',
  'field',
  'custom',
  'primary',
  'main',
  'text',
  'account',
  'customer',
  'contact',
  'record',
  'type',
  'by',
  'last',
  'lead',
  'work',
  'home',
  'kg',
  'cm',
  'mm',
  'g',
  'days',
  'percent',
  'months',
  'num',
  'ref',
]);

/**
 * The words of a name: `primaryContactEmail`, `cust_mail`, `UStIdNr`, `contact.phones.office`; without marks, in small
 * letters.
 */
export function wordsOfName(name: string): string[] {
  return name
    .normalize('NFKD')
    .replaceAll(/\p{M}/gu, '')
    .replaceAll('ß', 'ss')
    .replaceAll(/(\p{Ll})(\p{Lu})/gu, '$1 $2')
    .replaceAll(/(\p{Lu}+)(\p{Lu}\p{Ll})/gu, '$1 $2')
    .replaceAll(/(\p{L})(\d)/gu, '$1 $2')
    .toLowerCase()
    .split(/[^\p{L}\p{N}]+/u)
    .filter((word) => word !== '');
}

/** The parts of a name, the longest words of the trade first: `ship_to_zip_code` has *ship*, *to*, *zip code*. */
export function partsOfName(name: string): NamePart[] {
  const words = wordsOfName(name);
  const whole = words.join('');
  if (words.length > 1 && notionsOf.has(whole)) return [{ text: whole, notions: notionsOf.get(whole) ?? [] }];
  const parts: NamePart[] = [];
  for (let at = 0; at < words.length;) {
    let taken = 1;
    for (let length = Math.min(longestWord, words.length - at); length > 1; length -= 1) {
      if (!notionsOf.has(words.slice(at, at + length).join(' '))) continue;
      taken = length;
      break;
    }
    const text = words.slice(at, at + taken).join(' ');
    parts.push({ text, notions: notionsOf.get(text) ?? notionsOf.get(singular(text)) ?? [] });
    at += taken;
  }
  return parts;
}

function singular(word: string): string {
  return word.length > 3 && word.endsWith('s') ? word.slice(0, -1) : word;
}

function weightOf({ text, notions }: NamePart): number {
  if (/^\d+$/.test(text)) return 0.35;
  return faint.has(text) ? 0.3 : notions.length > 0 ? 1 : 0.8;
}

/** How alike two parts are, from 0 to 1: the same word, one notion, an abbreviation, nearly the same letters. */
function likeness(a: NamePart, b: NamePart): number {
  if (a.text === b.text || singular(a.text) === singular(b.text)) return 1;
  if (a.notions.some((notion) => b.notions.includes(notion))) return 0.95;
  if (/\d/.test(a.text + b.text)) return 0;
  const [short, long] = a.text.length <= b.text.length ? [a.text, b.text] : [b.text, a.text];
  if (short.length >= 2 && long.length >= short.length + 2 && isAbbreviation(short, long))
    return long.startsWith(short) && short.length >= 3 ? 0.8 : 0.6;
  if (short.length < 4) return 0;
  const edits = distance(short, long) / long.length;
  return edits <= 0.34 ? 0.85 - edits : 0;
}

/**
 * The letters of the short word come in the long one in their order, from the same first letter on: `dlv`, `delivery`.
 */
function isAbbreviation(short: string, long: string): boolean {
  if (short[0] !== long[0]) return false;
  let at = 0;
  for (const letter of long) if (letter === short[at]) at += 1;
  return at === short.length;
}

/**
 * How alike two names are, from 0 to 1: the weighed share of parts that find a partner on the other side (soft Dice).
 */
export function nameLikeness(a: readonly NamePart[], b: readonly NamePart[]): number {
  const pairs = a
    .flatMap((left, i) =>
      b.map((right, j) => ({ i, j, like: likeness(left, right), weight: weightOf(left) + weightOf(right) })),
    )
    .filter(({ like }) => like > 0);
  pairs.sort((x, y) => y.like * y.weight - x.like * x.weight);
  const [usedA, usedB] = [new Set<number>(), new Set<number>()];
  let shared = 0;
  for (const { i, j, like, weight } of pairs) {
    if (usedA.has(i) || usedB.has(j)) continue;
    usedA.add(i);
    usedB.add(j);
    shared += like * weight;
  }
  const total = [...a, ...b].reduce((sum, part) => sum + weightOf(part), 0);
  return total === 0 ? 0 : shared / total;
}
