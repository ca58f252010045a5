import type { EvidenceField, Weights } from '../definition/index.js';
import {
  type ComparedPairs,
  type EvidenceColumn,
  type EvidenceTexts,
  finished,
  learnFromPairs,
  leastBits,
  LikelyPairs,
  prepareColumns,
  PreparedJob,
} from '../identity/index.js';

export interface ComparedLists {
  readonly columns: readonly EvidenceColumn[];
  readonly memberOf: readonly number[];
  readonly part: ComparedPairs;
  readonly weights: Weights;
  readonly likely: LikelyPairs;
}

/**
 * Compares and learns from lists, one member each, all of them at once and without threads; places count through all
 * lists.
 */
export function compareLists(
  evidence: readonly EvidenceField[],
  lists: readonly (readonly EvidenceTexts[])[],
  withinMembers = false,
): ComparedLists {
  const texts = lists.flat();
  const memberOf = lists.flatMap((list, member) => list.map(() => member));
  const job = new PreparedJob({
    evidence,
    texts,
    memberOf,
    members: lists.length,
    newcomers: texts.length,
    withinMembers,
  });
  const part = job.compare({ from: 0, to: texts.length });
  const sizes = lists.map(({ length }) => length);
  const weights = finished(learnFromPairs(evidence, [part], memberOf, job.sample(), sizes));
  return {
    columns: prepareColumns(evidence, texts),
    memberOf,
    part,
    weights,
    likely: finished(LikelyPairs.of(evidence, weights, texts, [part], leastBits)),
  };
}
