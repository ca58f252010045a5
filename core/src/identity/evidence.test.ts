import { comparisonKinds, type EvidenceField } from '../definition/index.js';
/** Matching by evidence: what is compared, what is learned, how a score adds up, and what is chosen. */
import fc from 'fast-check';
import { compareLists } from '../testing/compareLists.js';
import { BlockIndex, blocksVersion, storedBlocks } from './blocking.js';
import { bestAndBeaten, chooseTies, defaultThresholds } from './chooseTies.js';
import { commonnessOf, learnShares, ShareTable } from './commonness.js';
import { type EvidenceRow, evidenceTexts, levelsOf, patternOf, prepareColumns } from './evidence.js';
import { fnv1a } from './fnv.js';
import { comparePairs } from './matchPairs.js';
import { addressWords } from './normalise/address.js';
import { learnRelated } from './related.js';
import { Scorer } from './score.js';
import { learnWeights, type PatternCounts, probabilityOf } from './weights.js';

const evidence: EvidenceField[] = [
  { name: 'Name', fields: ['given', 'family'], compare: 'person name' },
  { name: 'Born', fields: ['born'], compare: 'date' },
  { name: 'Phone', fields: ['phone'], compare: 'phone' },
];
const families = (
  'Ashdown Brandt Castellan Dunmore Eastlake Fairweather Garrick Holm Ivers Jansen Kettering Lindqvist ' +
  'Marrow Northam Okafor Penhale Quayle Rowntree Straker Thorne'
).split(' ');
const givens = 'Ada Bram Carys Dorian Elowen Finn Greta Hugo Imke Joren'.split(' ');
const twoDigits = (number: number): string => String(number).padStart(2, '0');
const person = (number: number) => ({
  given: givens[(number * 7) % 10] ?? '',
  family: families[(number * 3) % 20] ?? '',
  born: [1940 + (number % 50), twoDigits(1 + (number % 12)), twoDigits(1 + (number % 28))].join('-'),
  phone: `01632 96${String((number * 7919) % 10_000).padStart(4, '0')}`,
});
/** A list of people, and the same people with an error in every third one. */
const lefts = Array.from({ length: 300 }, (_, number) => person(number));
const rights = lefts
  .map((one, number) =>
    number % 3 === 0
      ? { ...one, phone: `01632 11${String(number).padStart(4, '0')}` }
      : number % 3 === 1
        ? { ...one, family: `${one.family}e` }
        : one,
  )
  .toReversed();

const columnsOf = (rows: readonly EvidenceRow[]) =>
  prepareColumns(
    evidence,
    rows.map((row) => evidenceTexts(evidence, row)),
  );
const places = (from: number, to: number) => Array.from({ length: to - from }, (_, at) => from + at);

function match() {
  const textsOf = (rows: readonly EvidenceRow[]) => rows.map((row) => evidenceTexts(evidence, row));
  const compared = compareLists(evidence, [textsOf(lefts), textsOf(rights)]);
  return { ...compared, scorer: new Scorer(evidence, compared.weights) };
}

test('learned from the data alone, what agrees speaks for a match, and everybody is found again', () => {
  const { weights, likely } = match();
  for (const { m, u } of weights.fields) expect((m.at(-1) ?? 0) / (u.at(-1) ?? 1)).toBeGreaterThan(5);
  expect(weights.prior * 300 * 300).toBeGreaterThan(200);
  expect(weights.prior * 300 * 300).toBeLessThan(400);
  const ties = chooseTies(likely.pairs, { upper: 5, lower: 0 });
  const right = ties.filter(({ left, right: other }) => other === 599 - left).length;
  expect(right / ties.length).toBeGreaterThan(0.99);
  expect(right).toBeGreaterThan(285);
});

test('a score is the sum of its parts, to the last digit, also when it is taken apart long after it was given', () => {
  const { likely } = match();
  expect(likely.pairs.length).toBeGreaterThan(200);
  for (const pair of likely.pairs) {
    const { bits, prior, related, parts, probability } = likely.explain(pair.left, pair.right);
    expect(related).toBeLessThanOrEqual(0);
    expect(
      Math.round(100 * prior) +
        Math.round(100 * related) +
        parts.reduce((sum, { adds }) => sum + Math.round(100 * adds), 0),
    ).toBe(Math.round(100 * bits));
    expect([probability, bits]).toEqual([probabilityOf(bits), pair.bits]);
  }
});

test('agreeing on a rare value says more than on a common one', () => {
  const { scorer } = match();
  const code = patternOf(columnsOf([person(1), person(1)]), 0, 1);
  expect(scorer.bits(code, () => commonnessOf(2 / 600))).toBeGreaterThan(
    scorer.bits(code, () => commonnessOf(60 / 600)),
  );
});

test('common values are remembered by their hash, and rare ones count as rare values do on the average', () => {
  const rows = [
    ...Array.from({ length: 80 }, () => person(3)),
    ...Array.from({ length: 20 }, (_, number) => person(100 + number)),
  ];
  const [, , phones] = columnsOf(rows);
  const shares = learnShares(phones as NonNullable<typeof phones>);
  expect(Object.values(shares.common)).toEqual([commonnessOf(0.8)]);
  expect(shares.rare).toBe(commonnessOf(2 / 100));
  const table = new ShareTable(shares);
  expect([table.of(phones?.values[0]?.form ?? ''), table.of('never seen')]).toEqual([
    commonnessOf(0.8),
    commonnessOf(2 / 100),
  ]);
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
    const share = (of: readonly number[]): number =>
      agrees.reduce((product, yes, field) => product * (yes ? (of[field] ?? 0) : 1 - (of[field] ?? 0)), 1);
    const code = agrees.reduce((sum, yes, field) => sum + (yes ? 2 : 1) * 6 ** field, 0);
    counts.set(code, pairs * (0.02 * share(m ?? []) + 0.98 * share(u ?? [])));
  }
  const anyPairs = (u ?? []).map((share) => [(1 - share) * 1e6, share * 1e6]);
  const learned = learnWeights(fields, counts, anyPairs, pairs, 10_000);
  expect(learned.prior).toBeCloseTo(0.02, 3);
  for (const [field, share] of (m ?? []).entries()) expect(learned.fields[field]?.m[1]).toBeCloseTo(share, 2);
});

test(
  'candidates are found by keys, each once, and are all that share a value; a value that everybody has ' +
    'is passed over',
  () => {
    const twice = [...lefts, ...lefts];
    const columns = columnsOf(twice);
    const index = new BlockIndex(columns, places(0, twice.length));
    const into = new Int32Array(index.mostCandidates);
    for (const at of [0, 17, 123]) {
      const found = Array.from(into.slice(0, index.candidates(at, into)));
      expect(new Set(found).size).toBe(found.length);
      const sharing = twice.flatMap((one, other) =>
        one.phone === lefts[at]?.phone || one.born === lefts[at]?.born ? [other] : [],
      );
      expect(sharing.length).toBeGreaterThan(1);
      expect(found).toEqual(expect.arrayContaining(sharing));
    }
    const alike = prepareColumns(
      [evidence[2] as EvidenceField],
      Array.from({ length: 5000 }, () => ['01632 960417']),
    );
    const all = new BlockIndex(alike, places(0, 5000));
    expect(all.candidates(0, new Int32Array(all.mostCandidates))).toBe(0);
    expect(all.passedOver).toBeGreaterThan(0);
  },
);

test('an index that is kept elsewhere finds what the one in memory finds, as far as no block is too large', () => {
  const columns = columnsOf([...lefts, ...rights]);
  const memory = new BlockIndex(columns, places(300, 600));
  const kept = new Map<number, number[]>();
  for (const place of places(300, 600))
    for (const { block } of storedBlocks(columns, place)) kept.set(block, [...(kept.get(block) ?? []), place]);
  const into = new Int32Array(memory.mostCandidates);
  for (const at of places(0, 300)) {
    const blocks = storedBlocks(columns, at);
    expect(new Set(blocks.map(({ block }) => block)).size).toBe(blocks.length);
    expect(blocks.every(({ block }) => Number.isSafeInteger(block) && block < 2 ** 45)).toBe(true);
    const found = blocks.flatMap(({ block, limit }) =>
      (kept.get(block)?.length ?? 0) <= limit ? (kept.get(block) ?? []) : [],
    );
    const inMemory = Array.from(into.slice(0, memory.candidates(at, into)));
    expect([...new Set(found)].sort()).toEqual(inMemory.sort());
  }
});

test('blocks that are kept elsewhere change only with their version', () => {
  const kinds = comparisonKinds.map((compare): EvidenceField => ({ name: compare, fields: [compare], compare }));
  const specimen = [
    'Osprey',
    'HZ4 8QD',
    'Ada Noel',
    'Osprey Nursery Ltd',
    '+44 1632 960417',
    'yard@osprey.example',
    '12 Mill Ln, HZ48QD',
    '1968-04-12',
    '12.5',
    'blue glass kit',
  ];
  const blocks = storedBlocks(prepareColumns(kinds, [specimen]), 0).map(({ block }) => block);
  expect([blocksVersion, blocks.length, fnv1a(blocks.join())]).toEqual([3, 60, -1339008605]);
});

test(
  'records of one member are compared with each other where that is wanted: each pair once, and no ' +
    'record with itself',
  () => {
    const columns = columnsOf([...lefts, person(5)]);
    const shares = columns.map((column) => new ShareTable(learnShares(column)));
    const memberOf = new Array<number>(301).fill(0);
    const indexes = [new BlockIndex(columns, places(0, 301))];
    const { left, right, patterns } = comparePairs({ columns, memberOf, indexes, withinMembers: true, shares }, 0, 301);
    const pairs = Array.from(left, (one, at) => `${one}/${right[at]}`);
    expect(pairs).toContain('5/300');
    expect(new Set(pairs).size).toBe(pairs.length);
    expect(Array.from(left).every((one, at) => one < (right[at] ?? 0))).toBe(true);
    // Nothing is learned from them where there are other members.
    expect(patterns.size).toBe(0);
    expect(comparePairs({ columns, memberOf, indexes, withinMembers: false, shares }, 0, 301).compared).toBe(0);
  },
);

test('a newcomer is compared with what is known, whichever comes first, and known records not with each other', () => {
  const columns = columnsOf([person(1), person(1), person(1), person(2)]);
  const shares = columns.map((column) => new ShareTable(learnShares(column)));
  const memberOf = [1, 0, 2, 0];
  const indexes = [0, 1, 2].map(() => new BlockIndex(columns, []));
  const others = [new BlockIndex(columns, [1]), new BlockIndex(columns, []), new BlockIndex(columns, [])];
  const { left, right } = comparePairs(
    { columns, memberOf, indexes, others, withinMembers: true, known: () => [2, 3], shares },
    0,
    1,
  );
  expect(Array.from(left, (one, at) => `${one}/${right[at]}`)).toEqual(['0/1', '0/2']);
});

test('a pattern keeps the level of each field, and what is missing', () => {
  fc.assert(
    fc.property(fc.array(fc.option(fc.nat(4), { nil: undefined }), { minLength: 1, maxLength: 20 }), (levels) => {
      const code = levels.reduceRight<number>((sum, level) => sum * 6 + (level === undefined ? 0 : level + 1), 0);
      expect(levelsOf(code, levels.length)).toEqual(levels);
    }),
  );
});

const pairsOf = fc.uniqueArray(
  fc.record({ left: fc.nat(6), right: fc.nat(6), bits: fc.integer({ min: -5, max: 25 }) }),
  {
    selector: ({ left, right }) => `${left}/${right}`,
    maxLength: 25,
  },
);

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
      for (const pair of pairs)
        if (pair.bits >= 0)
          expect(ties.some(({ left, right }) => left === pair.left || right === pair.right)).toBe(true);
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
});

test('the best pairs are the best of both their records in each member; what they clearly beat is told apart', () => {
  const pairs = [
    { left: 0, right: 3, bits: 20 },
    { left: 0, right: 4, bits: 12 },
    { left: 1, right: 4, bits: -1 },
    { left: 2, right: 3, bits: 18 },
  ];
  const members = (record: number): number => (record > 2 ? 1 : 0);
  const likely = pairs.filter(({ bits }) => bits >= 0);
  // A near-tie is not beaten, and who has no better one is not either.
  expect(bestAndBeaten(likely, pairs, members)).toEqual({ best: [pairs[0]], beaten: [pairs[1]] });
  // Where each record is of another member, each pair is the best there.
  expect(bestAndBeaten(likely, pairs, (record) => record).best).toEqual(likely);
});

/** People of one household share the family name and the address, and seldom a birthday. */
const household: EvidenceField[] = ['given', 'family', 'born', 'street'].map((name) => ({
  name,
  fields: [name],
  compare: 'exact',
}));
const patternOfLevels = (levels: readonly number[]): number =>
  levels.reduceRight((sum, level) => sum * 6 + level + 1, 0);
const spread = (count: number, shares: readonly number[]): PatternCounts => {
  const counts: PatternCounts = new Map();
  for (let at = 0; at < 16; at += 1) {
    const levels = [at & 1, (at >> 1) & 1, (at >> 2) & 1, at >> 3];
    const share = levels.reduce(
      (product, level, field) => product * (level === 1 ? (shares[field] ?? 0) : 1 - (shares[field] ?? 0)),
      1,
    );
    counts.set(patternOfLevels(levels), count * share);
  }
  return counts;
};
const byChance = [0.01, 0.001, 0.001, 0.00001];
const learnedOf = (best: PatternCounts, beaten: PatternCounts) => {
  const anyPairs = byChance.map((share) => [(1 - share) * 1e7, share * 1e7]);
  return learnRelated(household, learnWeights(household, best, anyPairs, 4_000_000, 1000), best, beaten, 4_000_000);
};

test('people of one household are learned as a class of their own, and what they share does not tie them', () => {
  const [same, related] = [spread(1000, [0.95, 0.95, 0.95, 0.9]), spread(300, [0.1, 0.97, 0.01, 0.97])];
  // Some have no better partner, and were taken for the same thing.
  const best: PatternCounts = new Map([...same].map(([code, count]) => [code, count + (related.get(code) ?? 0) / 3]));
  const weights = learnedOf(best, related);
  expect((weights.related?.prior ?? 0) * 4_000_000).toBeCloseTo(400, -2);
  expect(weights.related?.fields[3]?.[1]).toBeGreaterThan(0.9);
  expect(weights.fields[2]?.m[1]).toBeCloseTo(0.95, 1);
  const withShares = {
    ...weights,
    fields: weights.fields.map((field, at) => ({ ...field, common: {}, rare: commonnessOf(byChance[at] ?? 1) })),
  };
  const bits = (levels: readonly number[], of = withShares): number =>
    new Scorer(household, of).bits(patternOfLevels(levels), (field) => of.fields[field]?.rare ?? 0);
  expect(bits([0, 1, 0, 1], { ...withShares, related: undefined })).toBeGreaterThan(defaultThresholds.upper);
  expect(bits([0, 1, 0, 1])).toBeLessThan(defaultThresholds.lower);
  // Nobody of a household shares the birthday as well.
  expect(bits([1, 1, 1, 1])).toBeGreaterThan(defaultThresholds.upper);
});

test('duplicates of a record are not taken for people of its household', () => {
  const same = spread(1000, [0.95, 0.95, 0.95, 0.9]);
  expect(learnedOf(same, spread(300, [0.95, 0.9, 0.95, 0.3])).related).toBeUndefined();
  expect(learnedOf(same, new Map()).related).toBeUndefined();
});

test.each([
  ['Church Walk 81, MB94LN', 'church walk 81 mb9 4ln'],
  ['Prinsengracht 12, 1016GV', 'prinsengracht 12 1016 gv'],
  ['Ferry Rd 4, K1A0B1', 'ferry road 4 k1a 0b1'],
])('%s has the same words as with a space in its postcode', (address, words) => {
  expect(addressWords(address).join(' ')).toBe(words);
  expect(addressWords(address.replace(/(\w{3})$/, ' $1'))).toHaveLength(words.split(' ').length);
});
