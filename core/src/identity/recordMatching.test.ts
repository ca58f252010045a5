import fc from 'fast-check';
import { anchorId, type AnchorId, recordKey } from '../record/index.js';
import { keyOf } from './keyRule.js';
import type { KnownAnchors, Matching, Newcomer } from './matching.js';
import { RecordMatching } from './recordMatching.js';
import { type Verdict, Verdicts } from './verdict.js';

const nobody: KnownAnchors = { withKey: () => [], tiedKey: () => undefined, anchorOf: () => undefined };

function matchByKey(
  rules: readonly string[],
  all: readonly Newcomer[],
  before: KnownAnchors,
  nextId: () => AnchorId,
  verdicts: readonly Verdict[] = [],
): Matching {
  return new RecordMatching(rules, all, before, nextId, new Verdicts(verdicts)).applyKeys().finish();
}

function ids(): () => AnchorId {
  let next = 0;
  return () => anchorId(`new${(next += 1)}`);
}

const newcomer = (member: string, key: string, keys: (string | undefined)[], canStart = true): Newcomer => ({
  member,
  key: recordKey(key),
  keys,
  canStart,
});

/**
 * The matching with new anchors named by their records, so that two can be compared. The records of a doubt are in the
 * order in which a person sees them.
 */
function portrait(matching: Matching): string {
  const anchors = new Map<string, string[]>();
  for (const { newcomer: one, anchor } of matching.ties)
    anchors.set(anchor, [...(anchors.get(anchor) ?? []), `${one.member}/${one.key}`]);
  const blocked = [...matching.blocked].map(([anchor, members]) => [
    (anchors.get(anchor) ?? [anchor]).sort(),
    [...members].map(([member, keys]) => [member, ...[...keys].sort()].join()).sort(),
  ]);
  const doubts = matching.doubts.map(({ kind, member, ...rest }) => [
    kind,
    member,
    'keys' in rest ? rest.keys : rest.key,
  ]);
  return JSON.stringify([
    [...anchors.values()].map((all) => all.sort()).sort(),
    doubts.map((doubt) => JSON.stringify(doubt)).sort(),
    blocked.map((one) => JSON.stringify(one)).sort(),
  ]);
}

const newcomers = fc.uniqueArray(
  fc.record({
    member: fc.constantFrom('a', 'b', 'c'),
    key: fc.nat(5).map((n) => recordKey(`r${n}`)),
    keys: fc.tuple(
      fc.option(fc.constantFrom('1', '2', '3'), { nil: undefined }),
      fc.option(fc.constantFrom('x', 'y', 'z'), { nil: undefined }),
    ),
    canStart: fc.boolean(),
  }),
  { selector: ({ member, key }) => `${member}/${key}`, maxLength: 12 },
);
const known: KnownAnchors = {
  withKey: (rule, key) =>
    rule === 0 && key === '1' ? [anchorId('old')] : rule === 1 && key === 'x' ? [anchorId('older')] : [],
  tiedKey: (anchor, member) => (anchor === 'old' && member === 'a' ? recordKey('tied') : undefined),
  anchorOf: ({ member, key }) => (member === 'a' && key === 'tied' ? anchorId('old') : undefined),
};
/** What people said of some of the records; also of one that is tied, and of one that is not there. */
const verdictsOn = fc.array(
  fc.record({
    a: fc.record({ member: fc.constantFrom('a', 'b', 'c'), key: fc.nat(5).map((n) => recordKey(`r${n}`)) }),
    b: fc.record({
      member: fc.constantFrom('a', 'b', 'c'),
      key: fc.oneof(
        fc.nat(6).map((n) => recordKey(`r${n}`)),
        fc.constant(recordKey('tied')),
      ),
    }),
    same: fc.boolean(),
  }),
  { maxLength: 5 },
);

test('never ties two records of one member to one anchor, and never loses a record', () => {
  fc.assert(
    fc.property(newcomers, verdictsOn, (all, verdicts) => {
      const matching = matchByKey(['id', 'email'], all, known, ids(), verdicts);
      const slots = matching.ties.map(({ newcomer: { member }, anchor }) => `${anchor}/${member}`);
      expect(new Set(slots).size).toBe(slots.length);
      expect(slots).not.toContain('old/a');
      const doubted = matching.doubts.flatMap((doubt) =>
        ('keys' in doubt ? doubt.keys : [doubt.key]).map((key) => `${doubt.member}/${key}`),
      );
      const accounted = [
        ...matching.ties.map(({ newcomer: { member, key } }) => `${member}/${key}`),
        ...matching.unmatched.map(({ member, key }) => `${member}/${key}`),
        ...doubted,
      ];
      expect(accounted.sort()).toEqual(all.map(({ member, key }) => `${member}/${key}`).sort());
    }),
  );
});

test('gives the same ties whatever the order of reading', () => {
  fc.assert(
    fc.property(newcomers, verdictsOn, fc.infiniteStream(fc.nat()), (all, verdicts, random) => {
      const shuffled = all
        .map((one) => ({ one, at: random.next().value as number }))
        .toSorted((a, b) => a.at - b.at)
        .map(({ one }) => one);
      expect(portrait(matchByKey(['id', 'email'], shuffled, known, ids(), verdicts))).toBe(
        portrait(matchByKey(['id', 'email'], all, known, ids(), verdicts)),
      );
    }),
  );
});

test(
  'no two records of which somebody said that they are different come to one anchor, and those said to ' +
    'be the same do, where nothing stands against it',
  () => {
    fc.assert(
      fc.property(newcomers, verdictsOn, (all, verdicts) => {
        const { ties } = matchByKey(['id', 'email'], all, known, ids(), verdicts);
        const anchors = new Map(
          ties.map(({ newcomer: { member, key }, anchor }) => [`${member}/${key}`, anchor as string]),
        );
        anchors.set('a/tied', 'old');
        const said = new Verdicts(verdicts);
        for (const { a, b } of verdicts) {
          if (!said.areDifferent(a, b) || said.same(a).length > 0 || said.same(b).length > 0) continue;
          const [one, other] = [anchors.get(`${a.member}/${a.key}`), anchors.get(`${b.member}/${b.key}`)];
          if (one !== undefined && `${a.member}/${a.key}` !== `${b.member}/${b.key}`) expect(one).not.toBe(other);
        }
      }),
      { numRuns: 1000 },
    );
    const record = (member: string, key: string) => ({ member, key: recordKey(key) });
    const pair = [newcomer('a', '1', ['x']), newcomer('b', '2', ['y'])];
    const together = matchByKey(['id'], pair, nobody, ids(), [
      { a: record('a', '1'), b: record('b', '2'), same: true },
    ]);
    expect(together.ties.map(({ why }) => why)).toEqual([{ kind: 'verdict' }, { kind: 'verdict' }]);
    const apart = [newcomer('a', '1', ['x']), newcomer('b', '2', ['x'])];
    expect(
      new Set(
        matchByKey(['id'], apart, nobody, ids(), [{ a: record('b', '2'), b: record('a', '1'), same: false }]).ties.map(
          ({ anchor }) => anchor,
        ),
      ).size,
    ).toBe(2);
  },
);

test('a key that people have said belongs to two things goes to a person for everybody else', () => {
  const all = [newcomer('a', '1', ['x']), newcomer('b', '2', ['x']), newcomer('c', '3', ['x'])];
  const verdict = { a: { member: 'a', key: recordKey('1') }, b: { member: 'b', key: recordKey('2') }, same: false };
  const { ties, doubts } = matchByKey(['id'], all, nobody, ids(), [verdict]);
  expect(ties.map(({ newcomer: { key } }) => key)).toEqual(['1', '2']);
  expect(doubts).toMatchObject([{ kind: 'several anchors', member: 'c', key: '3' }]);
});

test('of two that are different and have the key of what is tied, a person says which it is', () => {
  const all = [newcomer('b', 'r4', ['1', undefined]), newcomer('c', 'r3', ['1', undefined])];
  const verdict = { a: { member: 'c', key: recordKey('r3') }, b: { member: 'b', key: recordKey('r4') }, same: false };
  for (const order of [all, all.toReversed()]) {
    const { ties, doubts, blocked } = matchByKey(['id', 'email'], order, known, ids(), [verdict]);
    expect(ties).toEqual([]);
    expect(doubts).toEqual([
      { kind: 'several anchors', member: 'b', key: 'r4', anchors: ['old'] },
      { kind: 'several anchors', member: 'c', key: 'r3', anchors: ['old'] },
    ]);
    // Nothing is created for it meanwhile.
    expect([...(blocked.get(anchorId('old'))?.keys() ?? [])]).toEqual(['b', 'c']);
  }
  // Once it was said of one, the other is a thing of its own.
  const said = { a: { member: 'c', key: recordKey('r3') }, b: { member: 'a', key: recordKey('tied') }, same: true };
  const { ties } = matchByKey(['id', 'email'], all, known, ids(), [verdict, said]);
  expect(ties.map(({ newcomer: { key }, anchor }) => [key, anchor])).toEqual([
    ['r3', 'old'],
    ['r4', 'new1'],
  ]);
});

test(
  'two shop customers that share an email are reported, and nothing is created in the shop for ' + 'the CRM account',
  () => {
    const all = [
      newcomer('crm', 'A1', ['yard@osprey.example']),
      newcomer('shop', '7', ['yard@osprey.example']),
      newcomer('shop', '8', ['yard@osprey.example']),
    ];
    const matching = matchByKey(['email'], all, nobody, ids());
    expect(matching.ties.map(({ newcomer: { key } }) => key)).toEqual(['A1']);
    expect(matching.doubts).toMatchObject([{ kind: 'duplicate', member: 'shop', keys: ['7', '8'] }]);
    expect([...(matching.blocked.get(matching.ties[0]?.anchor as AnchorId)?.keys() ?? [])]).toEqual(['shop']);
  },
);

test('keys that disagree go to a person', () => {
  const matching = matchByKey(['id', 'email'], [newcomer('b', 'r', ['1', 'x'])], known, ids());
  expect(matching).toMatchObject({ ties: [], doubts: [{ kind: 'keys disagree', anchors: ['old', 'older'] }] });
});

test('a later rule joins what an earlier one left, one rule over all records before the next', () => {
  const all = [
    newcomer('a', '1', ['K', undefined]),
    newcomer('b', '2', ['K', 'mail']),
    newcomer('c', '3', [undefined, 'mail']),
  ];
  const matching = matchByKey(['id', 'email'], all, nobody, ids());
  expect(new Set(matching.ties.map(({ anchor }) => anchor)).size).toBe(1);
});

test('a rejected record joins an anchor but starts none', () => {
  expect(matchByKey(['id'], [newcomer('a', '1', ['K'], false)], nobody, ids()).unmatched).toHaveLength(1);
  expect(
    matchByKey(['id'], [newcomer('a', '1', ['K'], false), newcomer('b', '2', ['K'])], nobody, ids()).ties,
  ).toHaveLength(2);
});

test('keys are compared in normal form, and a blank is no key', () => {
  const rule = { name: 'Email', fields: [{ field: 'email', normalise: 'email' as const }] };
  expect(keyOf(rule, new Map([['email', ' Mailto:Yard@Osprey.Example ']]))).toBe(
    'mailto:yard@osprey.example'.replace('mailto:', ''),
  );
  expect(keyOf(rule, new Map([['email', null]]))).toBeUndefined();
});
