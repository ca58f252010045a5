/** A record of one of any number of members. */
export interface ClusterRecord {
  readonly member: string;
  readonly key: string;
}

export interface ClusterPair {
  readonly a: ClusterRecord;
  readonly b: ClusterRecord;
  readonly bits: number;
}

const nameOf = ({ member, key }: ClusterRecord): string => `${member}\u001f${key}`;

/**
 * Groups records of any number of members, at most one of each, without chaining unlike ones together: two groups become
 * one only when the mean score over all pairs between them reaches the threshold (average linkage; Sokal and Michener
 * 1958). The best pairs come first, equal ones in order of their names, so the order in which they are given means nothing.
 * @param pairs those that are likely; a pair that is not among them is asked for
 * @param bitsOf the score of any two records
 */
export function clusterRecords(pairs: readonly ClusterPair[], threshold: number, bitsOf: (a: ClusterRecord, b: ClusterRecord) => number): ClusterRecord[][] {
  const known = new Map<string, number>();
  const pairName = (a: ClusterRecord, b: ClusterRecord): string => [nameOf(a), nameOf(b)].sort().join('\u001e');
  for (const { a, b, bits } of pairs) known.set(pairName(a, b), bits);
  const score = (a: ClusterRecord, b: ClusterRecord): number => {
    const name = pairName(a, b);
    const bits = known.get(name) ?? bitsOf(a, b);
    known.set(name, bits);
    return bits;
  };
  const groupOf = new Map<string, ClusterRecord[]>();
  const group = (record: ClusterRecord): ClusterRecord[] => {
    const there = groupOf.get(nameOf(record)) ?? [record];
    groupOf.set(nameOf(record), there);
    return there;
  };
  const inOrder = pairs.filter(({ bits }) => bits >= threshold).toSorted((x, y) => y.bits - x.bits || (pairName(x.a, x.b) < pairName(y.a, y.b) ? -1 : 1));
  for (const { a, b } of inOrder) {
    const [left, right] = [group(a), group(b)];
    if (left === right || left.some(({ member }) => right.some((other) => other.member === member))) continue;
    const sum = left.reduce((all, one) => all + right.reduce((of, other) => of + score(one, other), 0), 0);
    if (sum / (left.length * right.length) < threshold) continue;
    left.push(...right);
    for (const record of right) groupOf.set(nameOf(record), left);
  }
  return [...new Set(groupOf.values())].filter(({ length }) => length > 1).map((records) => records.toSorted((x, y) => (nameOf(x) < nameOf(y) ? -1 : 1)));
}
