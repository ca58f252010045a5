import type { Evidence, Knot } from '../definition/index.js';
/** What key rules and evidence make of all records, before anything is written. */
import { finished } from '../identity/index.js';
import { recordKey } from '../record/index.js';
import { compareLists } from '../testing/compareLists.js';
import { surveyIdentity, type SurveyedRecord } from './identitySurvey.js';

const members = ['crm', 'shop'];
const knot = {
  members: members.map((id) => ({ id })) as unknown as Knot['members'],
  keyRules: [{ name: 'Email', fields: [{ field: 'email', normalise: 'email' as const }] }],
};
const evidence: Evidence = {
  fields: [
    { name: 'Company', fields: ['company'], compare: 'company name' },
    { name: 'Phone', fields: ['phone'], compare: 'phone' },
  ],
  thresholds: { upper: 5, lower: -4 },
};
const word = (number: number): string =>
  ['Osprey', 'Saltpan', 'Marram', 'Heron', 'Quince', 'Fenwick', 'Juniper', 'Bracken'][number % 8] ?? '';
const company = (number: number): string =>
  `${word(number)} ${word(number * 3 + 1)} ` +
  `${String.fromCharCode(65 + (number % 26))}${String.fromCharCode(97 + ((number * 7) % 26))}rtner`;
const phone = (number: number): string => `01632 ${String(100_000 + number * 37).slice(0, 6)}`;
const record = (
  member: string,
  number: number,
  more: { email?: string; company?: string; phone?: string | null } = {},
): SurveyedRecord => ({
  member,
  key: recordKey(`${member}${number}`),
  title: company(number),
  keys: [more.email],
  canStart: true,
  texts: [more.company ?? company(number), more.phone === undefined ? phone(number) : more.phone],
});
/**
 * Sixty things that both have: ten by their email, the rest by what is alike; five without a phone; and some that one
 * has alone.
 */
const records = [
  ...Array.from({ length: 80 }, (_, number) =>
    record('crm', number, number < 10 ? { email: `${number}@x.example` } : {}),
  ),
  ...Array.from({ length: 60 }, (_, number) =>
    record(
      'shop',
      number,
      number < 10
        ? { email: `${number}@x.example`, company: 'Another', phone: null }
        : number < 15
          ? { phone: null }
          : {},
    ),
  ),
];

function compared() {
  const textsOf = (member: string) => records.flatMap((one) => (one.member === member ? [one.texts] : []));
  const { weights, likely, part } = compareLists(evidence.fields, members.map(textsOf), true);
  return { evidence, weights, likely, compared: part.compared };
}

test('keys come first, evidence takes what they leave, and every record is counted once', () => {
  const survey = finished(surveyIdentity(knot, records, compared()));
  expect(survey.rules).toMatchObject([{ name: 'Email', ties: 20, without: 120 }]);
  const { free = 0, bins = [], filled } = survey.evidence ?? {};
  expect([free, filled]).toEqual([120, [140, 125]]);
  // Whether it is tied by a key, by evidence, waits or stands alone: nothing is lost.
  expect(2 * survey.together + survey.alone + survey.waiting).toBe(records.length);
  const tied = bins.filter(({ from }) => from >= 5).reduce((sum, { pairs, disputed }) => sum + pairs - disputed, 0);
  expect(survey.together).toBe(10 + tied);
  expect(tied).toBeGreaterThanOrEqual(43);
  // What the keys tied is no pair of the evidence, however unlike it is.
  expect(
    bins.flatMap(({ examples }) => examples).filter(({ rules }) => rules.some(({ says }) => says === 'the same')),
  ).toEqual([]);
});

test('an example stands in the bin of its score, with what both have, and is of the same thing', () => {
  const bins = finished(surveyIdentity(knot, records, compared())).evidence?.bins ?? [];
  expect(bins.map(({ from }) => from)).toEqual(bins.map(({ from }) => from).toSorted((a, b) => a - b));
  for (const { from, pairs, examples } of bins) {
    expect(examples.length).toBe(Math.min(3, pairs));
    for (const { a, b, score, texts, rules } of examples) {
      expect([score.bits >= from, score.bits < from + 0.5 || from === 40]).toEqual([true, true]);
      expect([a.member, b.member, texts.length, rules.map(({ name }) => name)]).toEqual(['crm', 'shop', 2, ['Email']]);
      if (score.bits >= 5) expect(a.key.slice(3)).toBe(b.key.slice(4));
    }
  }
});

test('without evidence there is only what the keys say', () => {
  expect(finished(surveyIdentity(knot, records))).toMatchObject({
    evidence: undefined,
    together: 10,
    alone: 120,
    waiting: 0,
  });
});
