import type { FieldId } from '../record/index.js';

export type KeyNormalisation = 'exact' | 'text' | 'email' | 'digits';

/** Records with equal keys are the same thing. A rule may name several fields; all of them must be filled. */
export interface KeyRule {
  readonly name: string;
  readonly fields: readonly { readonly field: FieldId; readonly normalise: KeyNormalisation }[];
}

/** How two values of a field are compared when records are judged, and what each level of likeness says: from the
 * least alike (level 0) to the same. */
export const comparisonLevels = {
  exact: ['differs', 'same'],
  code: ['differs', 'one character off', 'same'],
  'person name': ['differs', 'one name alike, another not', 'one name alike, another missing', 'alike', 'same'],
  'company name': ['differs', 'somewhat alike', 'alike', 'same'],
  phone: ['differs', 'one digit off', 'same'],
  email: ['differs', 'same after the @', 'one character off', 'same'],
  address: ['differs', 'somewhat alike', 'alike', 'same'],
  date: ['differs', 'same month', 'one digit off, or day and month swapped', 'same'],
  number: ['differs', 'within a tenth', 'within a hundredth', 'same'],
  text: ['differs', 'somewhat alike', 'alike', 'same'],
} as const satisfies Readonly<Record<string, readonly string[]>>;
export type ComparisonKind = keyof typeof comparisonLevels;
export const comparisonKinds = Object.keys(comparisonLevels) as [ComparisonKind, ...ComparisonKind[]];

/**
 * Evidence that two records are the same thing: which fields are compared, and how. Several fields are compared as one
 * text.
 */
export interface EvidenceField {
  readonly name: string;
  readonly fields: readonly FieldId[];
  readonly compare: ComparisonKind;
}

/** Most parts of evidence whose pattern of levels still is an exact number. */
export const mostEvidenceFields = 20;

export interface Thresholds {
  /** From here on a pair is tied. In bits. */
  readonly upper: number;
  /** From here on, below the upper one, a person is asked. In bits. */
  readonly lower: number;
}

/**
 * How common a value is: 100 times the binary logarithm of the share of records that have it, as a whole number. A
 * value of every second record is at -100, one of a thousand at -997.
 */
export type Commonness = number;

/** How common the values of one field are, so that it can be kept: values by a hash, for they are personal data. */
export interface ValueShares {
  readonly common: Readonly<Record<string, Commonness>>;
  /** For values that are not listed: how common they are on the average, as often as they meet. */
  readonly rare: Commonness;
}

/**
 * What each level of each field says for or against a match (Fellegi and Sunter 1969, A theory for record linkage): `m`
 * is how often it comes among records that are the same thing, `u` among any two records.
 */
export interface LevelWeights {
  readonly m: readonly number[];
  readonly u: readonly number[];
}

/** With how common its values are. */
export interface FieldWeights extends LevelWeights, ValueShares {}

/** Records that agree in much without being the same thing: people of one household, branches of one company. */
export interface Related {
  /** By field, how often each level comes among them. */
  readonly fields: readonly (readonly number[])[];
  /** The share of all pairs that are related. */
  readonly prior: number;
}

/** What was learned from the data of which records are the same thing. */
export interface Weights<Field extends LevelWeights = FieldWeights> {
  readonly fields: readonly Field[];
  /** The share of all pairs that are the same thing. */
  readonly prior: number;
  /** Where the data have any. */
  readonly related?: Related | undefined;
}
