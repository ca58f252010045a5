/** The ways to decide: each has a key of its own and sends the fingerprint of what was seen. */
import { type Decision, decisionKindNames } from '@anchor-knot/contracts';
import { memberNamed } from '../../testing/fakeEditor';
import { optionsOf } from './decisionOptions';

const members = [memberNamed('crm'), memberNamed('shop'), memberNamed('erp')];
const details: { readonly [Kind in Decision['kind']]: unknown } = {
  guard: {},
  trouble: { code: 'unreachable', advice: 'See whether it is running.' },
  unusable: { file: 'leads-1.csv', line: 3 },
  'unusually quiet': { usual: 240, since: '2026-11-29T13:00:00Z' },
  'fields changed': { changes: [{ kind: 'removed', field: 'phone', type: 'text' }] },
  held: {
    base: { value: 'c' },
    candidates: [
      { value: 'a', givers: [{ kind: 'member', member: 'crm' }], at: 0, isAgreed: false },
      { value: 'b', givers: [{ kind: 'person', name: 'Vera' }], at: 0, isAgreed: false },
    ],
  },
  'unsure match': { why: 'evidence', candidates: [{ anchor: null, records: [], with: null, score: null }] },
  duplicate: { value: null, rule: null, keys: ['2'], tiedKey: '1', scores: [] },
  'unclear write': { intent: 'i' },
  'deleted elsewhere': {
    others: [
      { member: 'shop', key: '7', archive: true, delete: false },
      { member: 'erp', key: '8', archive: false, delete: false },
    ],
  },
  refused: {},
  rejected: { reasons: ['no name'] },
  'cannot be created': {},
  unreadable: { raw: 'x' },
  waiting: { knot: 'customers', by: { member: 'crm' }, value: 'A-1', thing: null },
  unwritable: { raw: 'x' },
};
const decision = (kind: Decision['kind']): Decision =>
  ({ kind, detail: details[kind], fingerprint: 'seen' }) as unknown as Decision;
const said = (kind: Decision['kind']) => optionsOf(decision(kind), members).map(({ key, who }) => `${key} ${who}`);

test.each(decisionKindNames)('%s: no key stands twice, and each choice is of what was seen', (kind) => {
  const options = optionsOf(decision(kind), members);
  expect(new Set(options.map(({ key }) => key)).size).toBe(options.length);
  for (const { choice } of options) expect(choice.fingerprint).toBe('seen');
});

test('a held field is settled by who gave what, or by what was agreed', () => {
  expect(said('held')).toEqual(['1 Fernhill CRM', '2 Vera', '0 stay with what was agreed']);
});

test('what would stand under itself stays as it was, or stands at the top', () => {
  const held = decision('held') as Extract<Decision, { kind: 'held' }>;
  const options = optionsOf({ ...held, detail: { ...held.detail, isCircle: true } }, members);
  expect(options.map(({ who, value, choice }) => [who, value, choice])).toEqual([
    ['let it stand at the top', undefined, { choose: 'value', value: null, fingerprint: 'seen' }],
    ['stay with what was agreed', 'c', { choose: 'value', value: 'c', fingerprint: 'seen' }],
  ]);
});

test('one candidate is the same or not; several are told apart', () => {
  expect(said('unsure match')).toEqual(['1 the same', '2 not the same', 'l later']);
  const two = decision('unsure match') as Extract<Decision, { kind: 'unsure match' }>;
  const named = (key: string) => ({ anchor: null, records: [], with: { member: 'crm', key }, score: null });
  const options = optionsOf({ ...two, detail: { why: 'evidence', candidates: [named('A'), named('B')] } }, members);
  expect(options.map(({ who }) => who)).toEqual(['the same as A', 'the same as B', 'none of them', 'later']);
});

test('of duplicates the tied one is named; what was deleted goes where it may', () => {
  expect(said('duplicate')).toEqual(['1 keep record 1', '2 keep record 2', '3 they are different things', 'l later']);
  expect(said('deleted elsewhere')).toEqual(['1 keep it where it is', '2 archive it in Market Row']);
});

test('a refused write is tried again alone, or with all that were refused in the same words', () => {
  const refused = decision('refused');
  expect(optionsOf({ ...refused, alike: 1 } as Decision, members).map(({ who }) => who)).toEqual([
    'try again with the next run',
  ]);
  const [one, all] = optionsOf({ ...refused, alike: 212 } as Decision, members);
  expect([one?.forAll, all?.who, all?.forAll]).toEqual([undefined, 'try all 212 again that were refused so', true]);
});

test('what is put right in a system has nothing to choose here', () => {
  expect(
    ['trouble', 'rejected', 'unreadable', 'unwritable', 'cannot be created'].flatMap((kind) => said(kind as never)),
  ).toEqual([]);
});
