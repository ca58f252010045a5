/** Putting records of several members together by the scores of their pairs. */
import fc from 'fast-check';
import { anchorId, recordKey } from '../record/index.js';
import type { ScoredPair } from './chooseTies.js';
import { type EvidenceCase, type EvidenceOutcome, matchByEvidence } from './matchByEvidence.js';
import { RecordMatching } from './recordMatching.js';
import { finished } from './steps.js';

/** Records are called by their member's letter and a number: `a1`. */
const membersOf = (names: readonly string[]) => [...new Set(names.map((name) => name[0] ?? ''))].sort();

function caseOf(
  names: readonly string[],
  scores: Readonly<Record<string, number>>,
  more: Partial<EvidenceCase> & { units?: EvidenceCase['units'] } = {},
): EvidenceCase {
  const place = (name: string) => names.indexOf(name);
  const pairs = Object.entries(scores).map(([pair, bits]): ScoredPair => {
    const [left = '', right = ''] = pair.split('-');
    return { left: place(left), right: place(right), bits };
  });
  const known = new Set((more.units ?? []).flatMap(({ records }) => records));
  return {
    memberOf: (record) => membersOf(names).indexOf(names[record]?.[0] ?? ''),
    members: membersOf(names).length,
    newcomers: names.map((_, at) => at).filter((at) => !known.has(at)),
    units: [],
    pairs: pairs.filter(({ bits }) => bits >= 0),
    forAndAgainst: (a, b) =>
      pairs.find(({ left, right }) => (left === a && right === b) || (left === b && right === a))?.bits ?? 1,
    thresholds: { upper: 8, lower: 0 },
    areDifferent: () => false,
    ...more,
  };
}
const groupsOf = (names: readonly string[], { units }: EvidenceOutcome) =>
  units
    .filter(({ waits }) => !waits)
    .map(({ records }) =>
      records
        .map((at) => names[at])
        .sort()
        .join(' '),
    )
    .sort();
const doubtsOf = (names: readonly string[], { doubts }: EvidenceOutcome) =>
  doubts.map((doubt) =>
    doubt.kind === 'unsure'
      ? `${names[doubt.record]}? ${doubt.candidates.map((one) => `${names[one.with]} ${one.bits}`).join(', ')}`
      : `${doubt.records.map((at) => names[at]).join(' ')} ` +
        `duplicates${doubt.tied === undefined ? '' : ` of ${names[doubt.tied]}`}`,
  );

test('clear pairs of three members come together; what is less clear is asked about; the rest stands alone', () => {
  const names = ['a1', 'a2', 'a3', 'b1', 'b2', 'b3', 'c1'];
  const outcome = finished(matchByEvidence(caseOf(names, { 'a1-b1': 20, 'b1-c1': 15, 'a2-b2': 4 })));
  expect(groupsOf(names, outcome)).toEqual(['a1 b1 c1', 'a2', 'a3', 'b3']);
  expect(doubtsOf(names, outcome)).toEqual(['b2? a2 4']);
  expect(outcome.considered.map(({ record, bits, isDisputed }) => [names[record], bits, isDisputed])).toEqual([
    ['b1', 20, false],
    ['b2', 4, false],
    ['c1', 15, false],
  ]);
});

test(
  'unlike records are not chained together: where one record of a thing speaks against it, a ' + 'person is asked',
  () => {
    const names = ['a1', 'b1', 'c1'];
    const outcome = finished(matchByEvidence(caseOf(names, { 'a1-b1': 20, 'b1-c1': 15, 'a1-c1': -9 })));
    expect(groupsOf(names, outcome)).toEqual(['a1 b1']);
    expect(doubtsOf(names, outcome)).toEqual(['c1? b1 15']);
    expect(outcome.considered.at(-1)).toMatchObject({ isDisputed: true });
  },
);

test('three shop accounts that are one thing are one group, with or without the account that they belong to', () => {
  const names = ['a1', 'b1', 'b2', 'b3'];
  const alike = { 'b1-b2': 18, 'b2-b3': 17 };
  expect(doubtsOf(names, finished(matchByEvidence(caseOf(names, { ...alike, 'a1-b1': 15, 'a1-b2': 14 }))))).toEqual([
    'b1 b2 b3 duplicates',
  ]);
  // One that is clearly better is tied, and the others are its duplicates.
  const clear = finished(matchByEvidence(caseOf(names, { ...alike, 'a1-b1': 25, 'a1-b2': 14 })));
  expect([groupsOf(names, clear), doubtsOf(names, clear)]).toEqual([['a1 b1'], ['b2 b3 duplicates of b1']]);
  const alone = finished(matchByEvidence(caseOf(names.slice(1), alike)));
  expect([groupsOf(names.slice(1), alone), doubtsOf(names.slice(1), alone)]).toEqual([[], ['b1 b2 b3 duplicates']]);
});

test('a record that is like what is tied in its member already is a duplicate of it', () => {
  const names = ['a1', 'b1', 'b2'];
  const units = [{ records: [0, 1], taken: new Set([0, 1]) }];
  expect(doubtsOf(names, finished(matchByEvidence(caseOf(names, { 'b1-b2': 12 }, { units }))))).toEqual([
    'b2 duplicates of b1',
  ]);
  expect(doubtsOf(names, finished(matchByEvidence(caseOf(names, { 'a1-b2': 12 }, { units }))))).toEqual([
    'b2 duplicates of b1',
  ]);
  // Somewhat alike is not enough: two of a household are two.
  expect(doubtsOf(names, finished(matchByEvidence(caseOf(names, { 'a1-b2': 5 }, { units }))))).toEqual([]);
});

test('what joins something that waits, waits with it', () => {
  const names = ['a1', 'b1', 'c1'];
  const outcome = finished(matchByEvidence(caseOf(names, { 'a1-b1': 4, 'b1-c1': 20 })));
  expect([groupsOf(names, outcome), doubtsOf(names, outcome), outcome.joined]).toEqual([
    ['a1'],
    ['b1? a1 4', 'c1? b1 20'],
    [],
  ]);
});

test('a person’s word that two are different outranks any score', () => {
  const names = ['a1', 'b1'];
  const outcome = finished(matchByEvidence(caseOf(names, { 'a1-b1': 30 }, { areDifferent: () => true })));
  expect([groupsOf(names, outcome), doubtsOf(names, outcome)]).toEqual([['a1', 'b1'], []]);
});

const names = ['a0', 'a1', 'a2', 'b0', 'b1', 'b2', 'c0', 'c1', 'c2'];
const scores = fc.dictionary(
  fc
    .tuple(fc.nat(8), fc.nat(8))
    .filter(([a, b]) => a < b)
    .map(([a, b]) => `${names[a]}-${names[b]}`),
  fc.integer({ min: -10, max: 25 }),
  { maxKeys: 20 },
);

test(
  'every record is in one place, no unit has two of a member, and at once or as records arrive the ' +
    'same belong together',
  () => {
    fc.assert(
      fc.property(scores, (bits) => {
        const outcome = finished(matchByEvidence(caseOf(names, bits)));
        const inUnits = outcome.units.flatMap(({ records }) => records);
        const asked = outcome.doubts.flatMap((doubt) => (doubt.kind === 'duplicates' ? doubt.records : [doubt.record]));
        expect(new Set([...inUnits, ...asked]).size).toBe(names.length);
        expect(new Set(inUnits).size).toBe(inUnits.length);
        for (const { records, waits } of outcome.units)
          if (!waits) expect(new Set(records.map((at) => names[at]?.[0])).size).toBe(records.length);
        // The last member's records come in a later run, when nothing of the others waits.
        if (
          outcome.doubts.some((doubt) =>
            (doubt.kind === 'duplicates' ? doubt.records : [doubt.record]).some((at) => at < 6),
          )
        )
          return;
        const first = finished(matchByEvidence(caseOf(names, bits, { newcomers: [0, 1, 2, 3, 4, 5] })));
        const units = first.units.map(({ records }) => ({
          records,
          taken: new Set(records.map((at) => Math.floor(at / 3))),
        }));
        const later = finished(matchByEvidence(caseOf(names, bits, { units, newcomers: [6, 7, 8] })));
        expect(groupsOf(names, later)).toEqual(groupsOf(names, outcome));
        expect(doubtsOf(names, later)).toEqual(doubtsOf(names, outcome));
      }),
    );
  },
);

test(
  'what evidence ties gets an anchor with the reason, what it doubts waits, and nothing is created ' +
    'where a doubt is open',
  () => {
    const records = ['a1', 'b1', 'b2', 'c1'].map((name) => ({
      member: name[0] ?? '',
      key: recordKey(name),
      keys: [],
      canStart: name !== 'c1',
    }));
    let next = 0;
    const matching = new RecordMatching(
      [],
      records,
      { withKey: () => [], tiedKey: () => undefined, anchorOf: () => undefined },
      () => anchorId(`new${(next += 1)}`),
    ).applyKeys();
    const outcome = finished(matchByEvidence(caseOf(['a1', 'b1', 'b2', 'c1'], { 'a1-b1': 20, 'b1-b2': 12 })));
    finished(matching.applyEvidence(outcome, (place) => records[place] as (typeof records)[number], []));
    const { ties, doubts, unmatched, blocked } = matching.finish();
    expect(ties.map(({ newcomer, anchor, why }) => [newcomer.key, anchor, why])).toEqual([
      ['a1', 'new1', undefined],
      ['b1', 'new1', { kind: 'evidence', with: { member: 'a', key: 'a1' }, bits: 20 }],
    ]);
    expect(doubts).toMatchObject([{ kind: 'duplicate', member: 'b', keys: ['b2'], tiedKey: 'b1', anchor: 'new1' }]);
    expect(unmatched.map(({ key }) => key)).toEqual(['c1']);
    expect([...(blocked.get(anchorId('new1'))?.keys() ?? [])]).toEqual(['b']);
  },
);

test('matching of many records lets go again and again, so that it can be stopped, and is the same as at once', () => {
  const names = Array.from({ length: 4000 }, (_, at) => `${at < 2000 ? 'a' : 'b'}${at % 2000}`);
  const bits = Object.fromEntries(Array.from({ length: 2000 }, (_, at) => [`a${at}-b${at}`, 20]));
  const steps = matchByEvidence(caseOf(names, bits));
  let pauses = 0;
  let step = steps.next();
  for (; step.done !== true; step = steps.next()) pauses += 1;
  // Never more than a thousand records from one pause to the next.
  expect(pauses).toBeGreaterThan(names.length / 1000);
  expect(step.value.joined).toHaveLength(2000);
  expect(step.value).toEqual(finished(matchByEvidence(caseOf(names, bits))));
});
