import type { EvidenceField, LevelWeights, Related, Weights } from '../definition/index.js';
import { levelsOf } from './evidence.js';
import { type CountedLevels, levelShares, type PatternCounts, shareOf } from './weights.js';

const rounds = 60;
/** Fewer pairs than this tell nothing of how related records agree. */
const leastPairs = 10;
/** Agreeing in everything has to speak for being the same by so many bits. */
const leastForAgreement = 3;
/**
 * In so many fields related pairs have to speak against being the same, by a bit on the average. A record that is
 * listed
 * twice with another phone is beaten as well; but it differs in that alone.
 */
const leastFieldsAgainst = 2;

/**
 * Learns a third class beside records that are the same thing and any two records: *related* ones, that agree in much
 * without
 * being the same, such as people of one household or branches of one company (Winkler 1993, Improved decision rules in
 * the
 * Fellegi-Sunter model of record linkage). Without it, what related records agree in counts as if it came by chance.
 * By expectation-maximisation from pairs that are likely: the best ones of both their records, and those that were
 * beaten
 * by a better one, for a thing has one record in a member.
 * @param pairs how many pairs there are in all
 * @returns the weights with the related ones; as they were where none were found
 */
export function learnRelated(
  evidence: readonly EvidenceField[],
  weights: Weights<LevelWeights>,
  best: PatternCounts,
  beaten: PatternCounts,
  pairs: number,
): Weights<LevelWeights> {
  const countedOf = (counts: PatternCounts): CountedLevels[] =>
    [...counts].map(([code, count]) => ({ levels: levelsOf(code, evidence.length), count }));
  const patterns = [...countedOf(best), ...countedOf(beaten)];
  const relatedOf = (some: readonly CountedLevels[]): Related => ({
    prior: shareOf(some, pairs),
    fields: levelShares(weights, some),
  });
  let learned: Weights<LevelWeights> & { readonly related: Related } = {
    ...weights,
    related: relatedOf(countedOf(beaten)),
  };
  if (learned.related.prior * pairs < leastPairs) return weights;
  for (let round = 0; round < rounds; round += 1) {
    const before = learned;
    const classes = patterns.map(({ levels }) => classesOf(before, levels));
    const [same, related] = ([0, 1] as const).map((of) =>
      patterns.map(({ levels, count }, at) => ({ levels, count: count * (classes[at]?.[of] ?? 0) })),
    ) as [CountedLevels[], CountedLevels[]];
    const m = levelShares(weights, same);
    learned = {
      prior: shareOf(same, pairs),
      fields: weights.fields.map(({ u }, field) => ({ m: m[field] ?? [], u })),
      related: relatedOf(related),
    };
  }
  const isClear =
    learned.related.prior * pairs >= leastPairs &&
    bitsForAgreement(learned) >= leastForAgreement &&
    againstByField(weights, learned.related).filter((bits) => bits >= 1).length >= leastFieldsAgainst;
  return isClear ? learned : weights;
}

/** How probable it is that a pair is of the same thing, and that it is of related ones. */
function classesOf(
  { fields, prior, related }: Weights<LevelWeights> & { readonly related: Related },
  levels: CountedLevels['levels'],
): [number, number] {
  let [same, other] = [prior, related.prior];
  for (const [field, level] of levels.entries()) {
    if (level === undefined) continue;
    const any = fields[field]?.u[level] ?? 1;
    same *= (fields[field]?.m[level] ?? 1) / any;
    other *= (related.fields[field]?.[level] ?? 1) / any;
  }
  const all = same + other + Math.max(0, 1 - prior - related.prior);
  return [same / all, other / all];
}

/** What agreeing in everything says for a pair being the same and not related, in bits. */
function bitsForAgreement({ fields, related }: Weights<LevelWeights> & { readonly related: Related }): number {
  return fields.reduce(
    (sum, { m }, field) => sum + Math.log2((m.at(-1) ?? 1) / (related.fields[field]?.at(-1) ?? 1)),
    0,
  );
}

/**
 * What each field of a related pair says, on the average, against its being the same (Kullback and Leibler 1951), in
 * bits.
 */
function againstByField({ fields }: Weights<LevelWeights>, related: Related): number[] {
  return fields.map(({ m }, field) =>
    (related.fields[field] ?? []).reduce((sum, share, level) => sum + share * Math.log2(share / (m[level] ?? 1)), 0),
  );
}
