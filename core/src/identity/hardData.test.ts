import type { EvidenceField } from '../definition/index.js';
/**
 * Data that are hard to match: households, values that everybody has, fields that nobody fills, other scripts. Work is
 * bounded, and nothing is tied by what tells nothing.
 */
import { compareLists } from '../testing/compareLists.js';
import { chooseTies, defaultThresholds } from './chooseTies.js';
import type { EvidenceTexts } from './evidence.js';

const evidence: EvidenceField[] = [
  { name: 'Name', fields: ['name'], compare: 'person name' },
  { name: 'Born', fields: ['born'], compare: 'date' },
  { name: 'Address', fields: ['address'], compare: 'address' },
  { name: 'Phone', fields: ['phone'], compare: 'phone' },
];
const syllables = [
  'bar',
  'den',
  'fol',
  'gas',
  'hel',
  'jor',
  'kim',
  'lun',
  'mar',
  'nes',
  'pol',
  'quin',
  'ros',
  'sil',
  'tam',
  'ul',
  'vor',
  'wes',
  'yar',
  'zed',
];
/** As if by chance, and the same each time (the finaliser of MurmurHash3, Appleby 2011). */
function spread(number: number, salt: number, size: number): number {
  let hash = Math.imul(number + 1, 0x9e3779b1) ^ Math.imul(salt + 1, 0x85ebca6b);
  hash = Math.imul(hash ^ (hash >>> 16), 0x85ebca6b);
  hash = Math.imul(hash ^ (hash >>> 13), 0xc2b2ae35);
  return Math.floor((((hash ^ (hash >>> 16)) >>> 0) / 2 ** 32) * size);
}
const word = (number: number, salt: number): string =>
  [0, 1, 2].map((part) => syllables[spread(number, 100 * part + salt, syllables.length)]).join('');
const twoDigits = (number: number): string => String(number).padStart(2, '0');
const born = (number: number): string =>
  [1930 + spread(number, 1, 70), twoDigits(1 + spread(number, 2, 12)), twoDigits(1 + spread(number, 3, 28))].join('-');
const address = (number: number): string =>
  `${1 + spread(number, 4, 180)} ${word(number, 5)} Lane HZ${1 + spread(number, 6, 29)} ${1 + spread(number, 7, 9)}QD`;
const phone = (number: number): string => `01632 ${String(100_000 + spread(number, 8, 899_999))}`;
const person = (number: number): string[] => [
  `${word(number, 11)} ${word(number, 12)}`,
  born(number),
  address(number),
  phone(number),
];

type Pair = { readonly left: number; readonly right: number };
/** Which pairs would be tied: the place in the first list, and the one in the second. */
function tiesOf(
  left: readonly EvidenceTexts[],
  right: readonly EvidenceTexts[],
): { ties: Pair[]; asked: Pair[]; compared: ReturnType<typeof compareLists> } {
  const compared = compareLists(evidence, [left, right]);
  const chosen = chooseTies(compared.likely.pairs, defaultThresholds).map(({ left: one, right: other, judgement }) => ({
    left: one,
    right: other - left.length,
    judgement,
  }));
  return {
    ties: chosen.filter(({ judgement }) => judgement === 'tied'),
    asked: chosen.filter(({ judgement }) => judgement === 'asked'),
    compared,
  };
}
const same = ({ left, right }: Pair): boolean => left === right;
const isFinite = ({ weights }: ReturnType<typeof compareLists>): boolean =>
  [weights.prior, ...weights.fields.flatMap(({ m, u }) => [...m, ...u])].every(
    (share) => Number.isFinite(share) && share > 0,
  );

test('two of one household who are in one list each are not tied, though they share name, address and phone', () => {
  // In every twelfth the first name is another one, so that a name that is alike in part speaks against nobody by
  // itself.
  const both = Array.from({ length: 400 }, (_, number) => person(number));
  const again = both.map((one, number) =>
    number % 12 === 0 ? one.with(0, `${word(number, 21)} ${one[0]?.split(' ')[1]}`) : one,
  );
  const partner = (number: number, salt: number): EvidenceTexts => {
    const [name = '', , home = '', line = ''] = person(number);
    return [
      `${word(number, salt)} ${name.split(' ')[1]}`,
      number % 2 === 0 ? null : born(number + 1000 * salt),
      home,
      line,
    ];
  };
  // Some households have somebody else beside who is in both lists; of others each list has another person.
  const households = Array.from({ length: 60 }, (_, number) => number);
  const left = [
    ...both,
    ...households.map((number) => partner(number, 31)),
    ...households.map((number) => person(1000 + number)),
  ];
  const right = [
    ...again,
    ...households.map(() => [null, null, null, null]),
    ...households.map((number) => partner(1000 + number, 51)),
  ];
  const { ties, compared } = tiesOf(left, right);
  expect(compared.weights.related?.prior).toBeGreaterThan(0);
  expect(ties.filter((pair) => !same(pair) || pair.left >= 400)).toHaveLength(0);
  expect(ties.length).toBeGreaterThan(390);
});

test('people who are listed twice in both lists are not taken for households, and none is tied to another', () => {
  // One phone in three is another one, in each of the four.
  const twice = (salt: number) =>
    Array.from({ length: 600 }, (_, at) =>
      spread(at, salt, 3) === 0 ? person(at >> 1).with(3, phone(1000 * salt + at)) : person(at >> 1),
    );
  const { ties, compared } = tiesOf(twice(70), twice(80));
  expect(compared.weights.related).toBeUndefined();
  expect(ties.every(({ left, right }) => left >> 1 === right >> 1)).toBe(true);
});

test('a phone that half of all have ties nobody, and those who have it are still found', () => {
  const everybody = Array.from({ length: 400 }, (_, number) =>
    person(number).with(3, number % 2 === 0 ? '01632 960000' : phone(number)),
  );
  const strangers = Array.from({ length: 200 }, (_, number) => person(5000 + number).with(3, '01632 960000'));
  const { ties, compared } = tiesOf(
    [...everybody, ...strangers],
    [...everybody, ...strangers.map((_, number) => person(9000 + number).with(3, '01632 960000'))],
  );
  expect(ties.every((pair) => same(pair) && pair.left < 400)).toBe(true);
  expect(ties).toHaveLength(400);
  expect(compared.part.compared).toBeLessThan(600 * 600 * 0.1);
});

test('a field that nobody fills says nothing, and takes nothing from what the others say', () => {
  const lists = Array.from({ length: 300 }, (_, number): EvidenceTexts => [...person(number).slice(0, 3), null]);
  const { ties, compared } = tiesOf(lists, lists);
  expect(ties.length).toBeGreaterThanOrEqual(297);
  expect(isFinite(compared)).toBe(true);
  expect(compared.likely.explain(0, 300).parts[3]).toEqual({ name: 'Phone', says: 'missing', adds: 0, rarity: 0 });
});

test(
  'records that all share one postcode and one day of birth are told apart by the rest, without ' +
    'comparing everything',
  () => {
    const lists = Array.from({ length: 1500 }, (_, number) => {
      const [name = '', , , line = ''] = person(number);
      return [name, '1970-01-01', `${1 + spread(number, 4, 180)} ${word(number, 5)} Lane HZ4 8QD`, line];
    });
    const { ties, compared } = tiesOf(lists, lists);
    expect(ties.filter((pair) => !same(pair))).toEqual([]);
    expect(ties.length).toBeGreaterThan(1485);
    expect(compared.part.compared).toBeLessThan(1500 * 1500 * 0.05);
  },
);

test('records that are all alike are not compared at all, and weights stay numbers', () => {
  const lists = Array.from({ length: 2000 }, () => ['Ada Noel', '1970-01-01', '12 Mill Lane HZ4 8QD', '01632 960417']);
  const { ties, compared } = tiesOf(lists, lists);
  expect([ties, compared.part.compared, isFinite(compared)]).toEqual([[], 0, true]);
});

test('names in Arabic and Hebrew are matched with an error in them, like any others', () => {
  const someArabic = 'محمد فاطمة خديجة يوسف إبراهيم'.split(' ');
  const moreArabic = 'سليمان مريم عائشة حسين زينب'.split(' ');
  const arabic = [...someArabic, ...moreArabic];
  const someHebrew = 'כהן לוי מזרחי פרידמן שפירא'.split(' ');
  const moreHebrew = 'אברהמי ביטון גולדשטיין רוזנברג הורוביץ'.split(' ');
  const hebrew = [...someHebrew, ...moreHebrew];
  const name = (number: number): string => `${arabic[number % 10]} ${hebrew[Math.floor(number / 10) % 10]}`;
  const left = Array.from({ length: 100 }, (_, number) => person(number).with(0, name(number)));
  // A letter twice, as a finger that stayed too long makes it; and no phone in common.
  const right = left.map((one, number) =>
    one.with(0, `${name(number)}${name(number).at(-1)}`).with(3, phone(number + 70_000)),
  );
  const { ties, compared } = tiesOf(left, right);
  expect(ties.filter((pair) => !same(pair))).toEqual([]);
  expect(ties.length).toBeGreaterThan(95);
  expect(compared.likely.explain(0, 100).parts[0]?.says).toBe('alike');
});
