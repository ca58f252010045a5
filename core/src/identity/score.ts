import type { Commonness, EvidenceField, Weights } from '../definition/index.js';
import { comparisonOf } from './comparison.js';
import { commonnessOf } from './commonness.js';
import { levelsOf, type PatternCode } from './evidence.js';
import { probabilityOf } from './weights.js';

/** What one field adds to a pair's score, in bits. A missing value adds nothing. */
export interface ScorePart {
  readonly name: string;
  /** What the comparison says; `missing` where a side has no value. */
  readonly says: string;
  readonly adds: number;
  /** Of `adds`, how much comes from the value being rarer (or commoner) than others. */
  readonly rarity: number;
}

/**
 * A score taken apart. The score is the prior, what related records take from it, and the sum of its parts, to the last
 * digit.
 */
export interface Score {
  readonly bits: number;
  readonly probability: number;
  /** What is known before anything is compared: few of all pairs are the same thing. */
  readonly prior: number;
  /** What is taken off, because records that are not the same but related agree as much. Never above zero. */
  readonly related: number;
  readonly parts: readonly ScorePart[];
}

/** Scores are added up in whole hundredths of a bit, so that sums have no hidden digits. */
const hundredths = (bits: number): number => Math.round(bits * 100);
const mostRarity = 600;

/** What an agreement of each level of a field adds, in bits, before it is known how common the value is. */
export function levelBits({ fields }: Weights): number[][] {
  return fields.map(({ m, u }) => m.map((share, level) => hundredths(Math.log2(share / (u[level] ?? 1))) / 100));
}

/**
 * Adds up what speaks for two records being the same thing. Agreement on a rare value says more than on a common one
 * (term-frequency adjustment; Winkler 1990): where values are the same, `u` is how often that very value comes.
 */
export class Scorer {
  readonly #evidence: readonly EvidenceField[];
  readonly #prior: number;
  /** By field and level, in hundredths. */
  readonly #adds: readonly (readonly number[])[];
  /** How common values are that agree by chance, by field. */
  readonly #averages: readonly Commonness[];
  /** Of related records, as for the same ones. */
  readonly #related: { readonly prior: number; readonly adds: readonly (readonly number[])[] } | undefined;

  constructor(evidence: readonly EvidenceField[], weights: Weights) {
    this.#evidence = evidence;
    this.#prior = hundredths(Math.log2(weights.prior / (1 - weights.prior)));
    this.#adds = levelBits(weights).map((levels) => levels.map(hundredths));
    this.#averages = weights.fields.map(({ u }) => commonnessOf(u.at(-1) ?? 1));
    const { related } = weights;
    this.#related = related && {
      prior: hundredths(Math.log2(related.prior / (1 - related.prior))),
      adds: weights.fields.map(({ u }, field) =>
        (related.fields[field] ?? []).map((share, level) => hundredths(Math.log2(share / (u[level] ?? 1)))),
      ),
    };
  }

  /** @param common by field: how common the value is, where both have the same one */
  bits(code: PatternCode, common: (field: number) => Commonness): number {
    let sum = this.#prior;
    let related = this.#related?.prior ?? 0;
    for (const [field, level] of levelsOf(code, this.#evidence.length).entries()) {
      if (level === undefined) continue;
      const rarity = this.#rarity(field, level, common);
      sum += (this.#adds[field]?.[level] ?? 0) + rarity;
      related += (this.#related?.adds[field]?.[level] ?? 0) + rarity;
    }
    return (sum + (this.#related ? takenOff(related) : 0)) / 100;
  }

  #rarity(field: number, level: number, common: (field: number) => Commonness): number {
    const top = (this.#adds[field]?.length ?? 0) - 1;
    if (level !== top || top < 1) return 0;
    return Math.max(-mostRarity, Math.min(mostRarity, (this.#averages[field] ?? 0) - common(field)));
  }

  explain(code: PatternCode, common: (field: number) => Commonness): Score {
    const parts = levelsOf(code, this.#evidence.length).map((level, field): ScorePart => {
      const { name, compare } = this.#evidence[field] as EvidenceField;
      if (level === undefined) return { name, says: 'missing', adds: 0, rarity: 0 };
      const rarity = this.#rarity(field, level, common);
      return {
        name,
        says: comparisonOf(compare).levels[level] ?? '',
        adds: ((this.#adds[field]?.[level] ?? 0) + rarity) / 100,
        rarity: rarity / 100,
      };
    });
    const bits = this.bits(code, common);
    const inParts = parts.reduce((sum, { adds }) => sum + hundredths(adds), this.#prior);
    return {
      bits,
      probability: probabilityOf(bits),
      prior: this.#prior / 100,
      related: (hundredths(bits) - inParts) / 100,
      parts,
    };
  }
}

/**
 * The odds are against any two records and related ones together: `same / (any + related)`. In hundredths, given the
 * odds
 * of related ones against any two.
 */
function takenOff(related: number): number {
  // Beyond this, one is nothing beside the other.
  return related > 6000 ? -related : -hundredths(Math.log2(1 + 2 ** (related / 100)));
}
