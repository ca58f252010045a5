import fc from 'fast-check';
import type { Raw } from '../record/index.js';
import { bestAssignment } from '../assignment/index.js';
import { proposeFields } from './proposeFields.js';
import { proposePairs } from './proposePairs.js';
import { type ObjectSketch, ObjectSketcher } from './sketch.js';

function sketchOf(records: readonly Record<string, Raw>[]): ObjectSketch {
  const sketcher = new ObjectSketcher();
  for (const record of records) sketcher.add(record);
  return sketcher.sketch();
}
const numbers = (from: number, count: number): number[] => Array.from({ length: count }, (_, index) => from + index);
const pairs = (left: ObjectSketch, right: ObjectSketch): string[] =>
  proposePairs(left, right)
    .pairs.map((pair) => `${pair.left} = ${pair.right}`)
    .sort();

/** The greatest total weight, by trying every way. */
function greatest(weights: readonly (readonly number[])[], row = 0, used = 0): number {
  if (row === weights.length) return 0;
  let best = greatest(weights, row + 1, used);
  for (const [column, weight] of (weights[row] ?? []).entries()) {
    if (weight > 0 && (used & (1 << column)) === 0)
      best = Math.max(best, weight + greatest(weights, row + 1, used | (1 << column)));
  }
  return best;
}

test('the assignment is one-to-one and of the greatest total weight, and takes nothing that speaks against', () => {
  fc.assert(
    fc.property(
      fc.integer({ min: 1, max: 6 }),
      fc.array(fc.array(fc.integer({ min: -9, max: 20 }), { minLength: 6, maxLength: 6 }), {
        minLength: 1,
        maxLength: 5,
      }),
      (width, rows) => {
        const weights = rows.map((row) => row.slice(0, width));
        const partners = bestAssignment(weights);
        const taken = partners.filter((partner) => partner >= 0);
        expect(new Set(taken).size).toBe(taken.length);
        const chosen = partners.map((partner, row) => (partner < 0 ? 0 : (weights[row]?.[partner] ?? 0)));
        expect(chosen.every((weight, row) => partners[row] === -1 || weight > 0)).toBe(true);
        expect(chosen.reduce((sum, weight) => sum + weight, 0)).toBe(greatest(weights));
      },
    ),
  );
});

const groups = ['Growers', 'Schools', 'Parks'];
const left = sketchOf(
  numbers(0, 200).map((n) => ({
    id: `A-${n}`,
    first: `a${n * 7}@x.example`,
    second: `b${n * 11}@x.example`,
    group: groups[n % 3] as string,
    net: n * 3 + 0.5,
  })),
);

test('names that mislead give way to values in tied records; other words for a choice and other units are seen', () => {
  const right = sketchOf(
    numbers(50, 200).map((n) => ({
      key: n,
      second: `a${n * 7}@x.example`,
      first: `b${n * 11}@x.example`,
      kind: `G${n % 3}`,
      pence: Math.round((n * 3 + 0.5) * 100),
    })),
  );
  expect(pairs(left, right)).toEqual(['first = second', 'group = kind', 'net = pence', 'second = first']);
});

test('running numbers that both sides happen to use tie nothing', () => {
  const one = sketchOf(numbers(1, 100).map((n) => ({ no: n, person: `Ada Thorne ${n}` })));
  const other = sketchOf(numbers(1, 100).map((n) => ({ num: n, article: `Pane ${n * 17}` })));
  expect(proposePairs(one, other).tied.count).toBe(0);
});

test('blank fields, no record at all, and texts in any script break nothing', () => {
  const odd = sketchOf([
    { a: null, b: '', c: 'שלום', 'd e': ['x'], f: { g: 1 } },
    { a: null, b: ' ', c: '𝒳', 'd e': [], f: { g: { $number: '12345678901234567890' } } },
  ]);
  expect(() => [
    proposePairs(odd, odd),
    proposePairs(odd, sketchOf([])),
    proposePairs(sketchOf([]), odd),
  ]).not.toThrow();
});

test('what was turned down is not proposed again, and what is mapped stays; a choice brings its crosswalk', () => {
  const right = sketchOf(
    numbers(50, 200).map((n) => ({ mail: `a${n * 7}@x.example`, kind: `G${n % 3}`, total: n * 3 + 0.5 })),
  );
  const members = [
    { id: 'l', object: left, fields: [], mayUpdate: true },
    { id: 'r', object: right, fields: [{ path: 'kind', type: 'text' as const, readOnly: true }], mayUpdate: true },
  ];
  const known = [{ id: 'net', type: 'number' as const, mappings: { l: { field: 'net' }, r: { field: 'total' } } }];
  const proposed = proposeFields(members, known, [{ member: 'r', field: 'mail', with: 'first' }]);
  expect(
    proposed.map(({ cells }) => cells.map(({ member, field, direction }) => `${member} ${field} ${direction}`)),
  ).toEqual([['l group both ways', 'r kind from']]);
  expect(proposed[0]?.crosswalk?.rows).toContainEqual({ shared: 'Schools', values: { l: ['Schools'], r: ['G1'] } });
});
