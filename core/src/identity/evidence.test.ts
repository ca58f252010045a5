/** Matching by evidence: what is compared, what is learned, how a score adds up, and what is chosen. */
import fc from 'fast-check';
import { BlockIndex } from './blocking.js';
import { chooseTies, mutualBest, type ScoredPair } from './chooseTies.js';
import { type ClusterPair, clusterRecords } from './clusters.js';
import { type EvidenceField, levelsOf, patternOf, prepareColumns } from './evidence.js';
import { comparePairs } from './matchPairs.js';
import { frequenciesOf, Scorer } from './score.js';
import { learnWeights, type PatternCounts, probabilityOf, sampleAnyPairs } from './weights.js';

const evidence: EvidenceField[] = [
  { name: 'Name', fields: ['given', 'family'], compare: 'person name' },
  { name: 'Born', fields: ['born'], compare: 'date' },
  { name: 'Phone', fields: ['phone'], compare: 'phone' },
];
const families =
  'Ashdown Brandt Castellan Dunmore Eastlake Fairweather Garrick Holm Ivers Jansen Kettering Lindqvist Marrow Northam Okafor Penhale Quayle Rowntree Straker Thorne'.split(' ');
const givens = 'Ada Bram Carys Dorian Elowen Finn Greta Hugo Imke Joren'.split(' ');
const person = (number: number) => ({
  given: givens[(number * 7) % 10] ?? '',
  family: families[(number * 3) % 20] ?? '',
  born: `19${String(40 + (number % 50)).padStart(2, '0')}-${String(1 + (number % 12)).padStart(2, '0')}-${String(1 + (number % 28)).padStart(2, '0')}`,
  phone: `01632 96${String((number * 7919) % 10_000).padStart(4, '0')}`,
});
/** A list of people, and the same people with an error in every third one. */
const lefts = Array.from({ length: 300 }, (_, number) => person(number));
const rights = lefts
  .map((one, number) => (number % 3 === 0 ? { ...one, phone: `01632 11${String(number).padStart(4, '0')}` } : number % 3 === 1 ? { ...one, family: `${one.family}e` } : one))
  .toReversed();

function match() {
  const [left, right] = [prepareColumns(evidence, lefts), prepareColumns(evidence, rights)];
  const frequencies = left.map((column, field) => frequenciesOf(column, right[field] ?? column));
  const compared = comparePairs(left, new BlockIndex(right, rights.length), frequencies, { from: 0, to: lefts.length });
  const weights = learnWeights(evidence, compared.patterns, sampleAnyPairs(left, right, lefts.length, rights.length), lefts.length * rights.length, 150);
  const scorer = new Scorer(
    evidence,
    weights,
    frequencies.map((counts) => [...counts.values()].reduce((sum, count) => sum + count, 0)),
  );
  const frequencyAt = (at: number) => (field: number) => compared.frequencies[at * evidence.length + field] ?? 0;
  return { left, right, compared, weights, scorer, frequencyAt };
}

test('learned from the data alone, what agrees speaks for a match, and everybody is found again', () => {
  const { compared, weights, scorer, frequencyAt } = match();
  for (const { m, u } of weights.fields) expect((m.at(-1) ?? 0) / (u.at(-1) ?? 1)).toBeGreaterThan(5);
  expect(weights.prior * 300 * 300).toBeGreaterThan(200);
  expect(weights.prior * 300 * 300).toBeLessThan(400);
  const scored = Array.from(compared.left, (left, at): ScoredPair => ({ left, right: compared.right[at] ?? 0, bits: scorer.bits(compared.codes[at] ?? 0, frequencyAt(at)) }));
  const ties = chooseTies(scored, { upper: 5, lower: 0 });
  const right = ties.filter(({ left, right: other }) => other === 299 - left).length;
  expect(right / ties.length).toBeGreaterThan(0.99);
  expect(right).toBeGreaterThan(285);
});

test('a score is the sum of its parts, to the last digit', () => {
  const { compared, scorer, frequencyAt } = match();
  expect(compared.left.length).toBeGreaterThan(200);
  for (const [at, code] of compared.codes.entries()) {
    const { bits, prior, parts, probability } = scorer.explain(code, frequencyAt(at));
    expect(Math.round(100 * prior) + parts.reduce((sum, { adds }) => sum + Math.round(100 * adds), 0)).toBe(Math.round(100 * bits));
    expect(probability).toBe(probabilityOf(bits));
  }
});

test('agreeing on a rare value says more than on a common one', () => {
  const { scorer } = match();
  const code = patternOf(prepareColumns(evidence, [person(1)]), 0, prepareColumns(evidence, [person(1)]), 0);
  expect(scorer.bits(code, () => 2)).toBeGreaterThan(scorer.bits(code, () => 60));
});

test('expectation-maximisation finds the shares that made the data', () => {
  // Two fields; matches agree in 0.9 and 0.7, other pairs in 0.1 and 0.02; one pair of 50 is a match.
  const fields: EvidenceField[] = ['a', 'b', 'c'].map((name) => ({ name, fields: [name], compare: 'exact' }));
  const [m, u] = [
    [0.9, 0.7, 0.8],
    [0.1, 0.02, 0.05],
  ];
  const counts: PatternCounts = new Map();
  const pairs = 1_000_000;
  for (let pattern = 0; pattern < 8; pattern += 1) {
    const agrees = [pattern & 1, pattern & 2, pattern & 4].map(Boolean);
    const share = (of: readonly number[]): number => agrees.reduce((product, yes, field) => product * (yes ? (of[field] ?? 0) : 1 - (of[field] ?? 0)), 1);
    const code = agrees.reduce((sum, yes, field) => sum + (yes ? 2 : 1) * 5 ** field, 0);
    counts.set(code, pairs * (0.02 * share(m ?? []) + 0.98 * share(u ?? [])));
  }
  const anyPairs = (u ?? []).map((share) => [(1 - share) * 1e6, share * 1e6]);
  const learned = learnWeights(fields, counts, anyPairs, pairs, 10_000);
  expect(learned.prior).toBeCloseTo(0.02, 3);
  for (const [field, share] of (m ?? []).entries()) expect(learned.fields[field]?.m[1]).toBeCloseTo(share, 2);
});

test('candidates are found by keys, each once, and are all that share a value; a value that everybody has is passed over', () => {
  const twice = [...lefts, ...lefts];
  const columns = prepareColumns(evidence, twice);
  const index = new BlockIndex(columns, twice.length);
  const into = new Int32Array(index.mostCandidates);
  for (const at of [0, 17, 123]) {
    const found = Array.from(into.slice(0, index.candidates(columns, at, into)));
    expect(new Set(found).size).toBe(found.length);
    const sharing = twice.flatMap((one, other) => (one.phone === lefts[at]?.phone || one.born === lefts[at]?.born ? [other] : []));
    expect(sharing.length).toBeGreaterThan(1);
    expect(found).toEqual(expect.arrayContaining(sharing));
  }
  const alike = prepareColumns(
    [evidence[2] as EvidenceField],
    Array.from({ length: 5000 }, () => ({ phone: '01632 960417' })),
  );
  const all = new BlockIndex(alike, 5000);
  expect(all.candidates(alike, 0, new Int32Array(all.mostCandidates))).toBe(0);
  expect(all.passedOver).toBeGreaterThan(0);
});

test('a list compared with itself gives each pair once, and no record with itself', () => {
  const columns = prepareColumns(evidence, [...lefts, person(5)]);
  const frequencies = columns.map((column) => frequenciesOf(column, column));
  const { left, right } = comparePairs(columns, new BlockIndex(columns, 301), frequencies, { from: 0, to: 301, within: true });
  const pairs = Array.from(left, (one, at) => `${one}/${right[at]}`);
  expect(pairs).toContain('5/300');
  expect(new Set(pairs).size).toBe(pairs.length);
  expect(Array.from(left).every((one, at) => one < (right[at] ?? 0))).toBe(true);
});

test('a pattern keeps the level of each field, and what is missing', () => {
  fc.assert(
    fc.property(fc.array(fc.option(fc.nat(3), { nil: undefined }), { minLength: 1, maxLength: 20 }), (levels) => {
      const code = levels.reduceRight<number>((sum, level) => sum * 5 + (level === undefined ? 0 : level + 1), 0);
      expect(levelsOf(code, levels.length)).toEqual(levels);
    }),
  );
});

const pairsOf = fc.uniqueArray(fc.record({ left: fc.nat(6), right: fc.nat(6), bits: fc.integer({ min: -5, max: 25 }) }), {
  selector: ({ left, right }) => `${left}/${right}`,
  maxLength: 25,
});

test('ties are one to one, of the greatest total weight, and do not depend on the order of the pairs', () => {
  fc.assert(
    fc.property(pairsOf, fc.infiniteStream(fc.nat()), (pairs, random) => {
      const thresholds = { upper: 8, lower: 0 };
      const ties = chooseTies(pairs, thresholds);
      expect(new Set(ties.map(({ left }) => left)).size).toBe(ties.length);
      expect(new Set(ties.map(({ right }) => right)).size).toBe(ties.length);
      const shuffled = pairs
        .map((pair) => ({ pair, at: random.next().value as number }))
        .toSorted((a, b) => a.at - b.at)
        .map(({ pair }) => pair);
      expect(chooseTies(shuffled, thresholds)).toEqual(ties);
      // No single pair that is left out could join without breaking the assignment.
      for (const pair of pairs) if (pair.bits >= 0) expect(ties.some(({ left, right }) => left === pair.left || right === pair.right)).toBe(true);
    }),
  );
});

test('the better pair does not take the only partner of another, and a near-tie goes to a person', () => {
  const chosen = chooseTies(
    [
      { left: 0, right: 0, bits: 20 },
      { left: 0, right: 1, bits: 19 },
      { left: 1, right: 0, bits: 18 },
    ],
    { upper: 10, lower: 0 },
  );
  expect(chosen.map(({ left, right }) => [left, right])).toEqual([
    [0, 1],
    [1, 0],
  ]);
  expect(chosen.every(({ judgement }) => judgement === 'asked')).toBe(true);
  const clear = [
    { left: 0, right: 0, bits: 20 },
    { left: 0, right: 1, bits: 12 },
  ];
  expect(chooseTies(clear, { upper: 10, lower: 0 })).toEqual([{ left: 0, right: 0, bits: 20, judgement: 'tied' }]);
  expect(mutualBest(clear)).toEqual([clear[0]]);
});

test('groups of several members do not chain unlike records together, have one record of a member, and are the same in any order', () => {
  const record = (name: string) => ({ member: name[0] ?? '', key: name });
  const pair = (a: string, b: string, bits: number): ClusterPair => ({ a: record(a), b: record(b), bits });
  const all = [pair('a1', 'b1', 12), pair('b1', 'c1', 11), pair('a1', 'c1', 10), pair('a2', 'b2', 9), pair('b2', 'c2', 8), pair('a1', 'b2', 7)];
  // The two ends of the second chain are known to be unlike.
  const bitsOf = (a: { key: string }, b: { key: string }) => ([a.key, b.key].sort().join() === 'a2,c2' ? -30 : -20);
  const groups = (pairs: readonly ClusterPair[]) =>
    clusterRecords(pairs, 5, bitsOf)
      .map((group) => group.map(({ key }) => key).join())
      .sort();
  expect(groups(all)).toEqual(['a1,b1,c1', 'a2,b2']);
  expect(groups(all.toReversed())).toEqual(groups(all));
});
