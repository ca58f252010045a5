import type { ComparisonKind } from '../definition/index.js';
import type { FieldPath } from '../record/index.js';
import { wordsOfName } from './fieldNames.js';
import type { ProposedPair } from './proposePairs.js';
import type { FieldSketch, ObjectSketch } from './sketch.js';
import { notionsOf } from './tradeWords.js';

/** A pair of fields that tells whether two records are the same thing, and how its values are compared. */
export interface ProposedEvidence {
  readonly name: string;
  readonly left: readonly FieldPath[];
  readonly right: readonly FieldPath[];
  readonly compare: ComparisonKind;
}

/** Fields that say too little about which thing a record is, however well they correspond. */
const fewestValues = 0.02;
const mostEvidence = 8;

const notion = (word: string): number => notionsOf.get(word)?.[0] ?? -1;
const personNotions = new Set(['first name', 'last name', 'full name'].map(notion));
const companyNotions = new Set(['company'].map(notion));
const addressNotions = new Set(['street', 'address'].map(notion));
const codeNotions = new Set(['postcode', 'vat number', 'iban', 'registration number'].map(notion));

/**
 * Which of the corresponding fields are evidence: those whose values tell records apart, each with the comparison that
 * its name and its values ask for.
 */
export function proposeEvidence(
  pairs: readonly ProposedPair[],
  left: ObjectSketch,
  right: ObjectSketch,
): ProposedEvidence[] {
  return pairs
    .flatMap(({ left: a, right: b }): (ProposedEvidence & { readonly tells: number })[] => {
      const [first, second] = [left.fields.find(({ path }) => path === a), right.fields.find(({ path }) => path === b)];
      if (!first || !second) return [];
      const tells = Math.min(first.distinct / Math.max(1, left.records), second.distinct / Math.max(1, right.records));
      const compare = comparisonFor(a, b, first, second);
      return compare === undefined || tells < fewestValues ? [] : [{ name: a, left: [a], right: [b], compare, tells }];
    })
    .toSorted((x, y) => y.tells - x.tells || (x.name < y.name ? -1 : 1))
    .slice(0, mostEvidence)
    .map(({ tells: _, ...evidence }) => evidence);
}

function comparisonFor(a: FieldPath, b: FieldPath, left: FieldSketch, right: FieldSketch): ComparisonKind | undefined {
  const kinds = [left, right].map(mainKind);
  if (kinds.every((kind) => kind === 'email')) return 'email';
  if (kinds.includes('phone') && kinds.every((kind) => kind === 'phone' || kind === 'number')) return 'phone';
  if (kinds.every((kind) => kind === 'date')) return 'date';
  if (kinds.every((kind) => kind === 'number')) return undefined;
  if (kinds.includes('yes/no') || kinds.includes('list')) return undefined;
  const notions = [a, b].flatMap(notionsIn);
  const isOf = (set: ReadonlySet<number>): boolean => notions.some((notion) => set.has(notion));
  if (isOf(codeNotions)) return 'code';
  if (isOf(companyNotions)) return 'company name';
  if (isOf(personNotions)) return 'person name';
  if (isOf(addressNotions)) return 'address';
  return Math.max(left.length, right.length) > longText ? undefined : 'text';
}

/** Longer texts are notes: they are written anew in each system. */
const longText = 60;

function mainKind({ kinds }: FieldSketch): string {
  return [...kinds].toSorted(([, x], [, y]) => y - x)[0]?.[0] ?? 'text';
}

function notionsIn(path: FieldPath): readonly number[] {
  const words = wordsOfName(path);
  const found: number[] = [];
  for (let from = 0; from < words.length; from += 1)
    for (let to = words.length; to > from; to -= 1)
      found.push(...(notionsOf.get(words.slice(from, to).join(' ')) ?? []));
  return [...found, ...(notionsOf.get(words.join('')) ?? [])];
}
