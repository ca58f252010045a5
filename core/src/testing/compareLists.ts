import {
  BlockIndex,
  comparePairs,
  type ComparedPairs,
  type EvidenceColumn,
  type EvidenceField,
  type EvidenceTexts,
  finished,
  learnFromPairs,
  learnShares,
  leastBits,
  LikelyPairs,
  prepareColumns,
  sampleAnyPairs,
  ShareTable,
  type Weights,
} from '../identity/index.js';

export interface ComparedLists {
  readonly columns: readonly EvidenceColumn[];
  readonly memberOf: readonly number[];
  readonly part: ComparedPairs;
  readonly weights: Weights;
  readonly likely: LikelyPairs;
}

/** Compares and learns from lists, one member each, all of them at once and without threads; places count through all lists. */
export function compareLists(evidence: readonly EvidenceField[], lists: readonly (readonly EvidenceTexts[])[], withinMembers = false): ComparedLists {
  const texts = lists.flat();
  const memberOf = lists.flatMap((list, member) => list.map(() => member));
  const places = (member: number): number[] => memberOf.flatMap((of, place) => (of === member ? [place] : []));
  const columns = prepareColumns(evidence, texts);
  const shares = columns.map(learnShares);
  const comparing = {
    columns,
    memberOf,
    indexes: lists.map((_, member) => new BlockIndex(columns, places(member))),
    withinMembers,
    shares: shares.map((of) => new ShareTable(of)),
  };
  const part = comparePairs(comparing, 0, texts.length);
  const any = { anyPairs: sampleAnyPairs(columns, places(0), places(1)), shares };
  const sizes = lists.map(({ length }) => length);
  const weights = finished(learnFromPairs(evidence, [part], memberOf, any, sizes));
  return { columns, memberOf, part, weights, likely: finished(LikelyPairs.of(evidence, weights, texts, [part], leastBits)) };
}
