import { readFileSync } from 'node:fs';
import { knotFileSchema, type MemberSummary, type Run } from '@anchor-knot/contracts';
import { bitsWords, causeWords, chanceWords, kindWords, plural, ruleWords, runSentence, stepWords } from './sentences';

const pennant = {
  pattern: 'disc',
  letters: 'FC',
  first: 'petrol',
  second: 'paper',
} as unknown as MemberSummary['pennant'];
const members = [
  { id: 'crm', systemName: 'Fernhill CRM', pennant },
  { id: 'shop', systemName: 'Market Row', pennant: { ...pennant, letters: 'MR' } },
] as unknown as MemberSummary[];
const tally = (more: object) => ({
  read: 0,
  create: 0,
  update: 0,
  leftAlone: 0,
  held: 0,
  rejected: 0,
  waiting: 0,
  written: 0,
  failed: 0,
  ...more,
});
const run = (more: Partial<Run>, crm: object = {}, shop: object = {}): Run =>
  ({
    kind: 'run',
    state: 'succeeded',
    endedAt: '2026-11-23T10:00:00Z',
    progress: { phase: 'done', done: 0, tally: { crm: tally(crm), shop: tally(shop) } },
    ...more,
  }) as unknown as Run;

test('a run is told in one sentence, whatever became of it', () => {
  expect(runSentence(run({ state: 'waiting' as Run['state'], progress: null }), members)).toBe('Waits for a worker.');
  expect(runSentence(run({ state: 'running', endedAt: null, progress: null }), members)).toBe('Has just begun.');
  expect(
    runSentence(
      run({ state: 'running', endedAt: null, progress: { phase: 'reading', done: 1200, tally: {} } } as Partial<Run>),
      members,
    ),
  ).toBe('Reading records: 1,200.');
  expect(runSentence(run({}), members)).toBe('There was nothing to write.');
  expect(runSentence(run({ kind: 'dry run' }), members)).toBe('Nothing would be written.');
  expect(runSentence(run({ kind: 'dry run' }, { create: 1, update: 2000 }, { create: 14 }), members)).toBe(
    '1 record would be created and 2,000 would be updated in Fernhill CRM; 14 records would be created in Market Row.',
  );
  expect(runSentence(run({}, { create: 3, written: 2, failed: 1 }, { update: 1, written: 1 }), members)).toBe(
    '3 records written, 1 not.',
  );
  expect(runSentence(run({}, { update: 1, written: 1 }), members)).toBe('1 record written.');
});

test('every step and every rule of the demo knot has words that name what it does', () => {
  const { knot } = knotFileSchema.parse(JSON.parse(readFileSync('server/demo/customers.knot.json', 'utf8')));
  const steps = knot.fields.flatMap((field) => Object.values(field.mappings).flatMap((mapping) => mapping.steps));
  const words = steps.map((step) => stepWords(step, knot));
  expect(words.length).toBeGreaterThan(5);
  for (const said of [...words, ...knot.fields.map(({ rule }) => ruleWords(rule, members))])
    expect(said).toMatch(/^\w.*[^,\s]$/);
  expect(words).toContain('crosswalk Customer groups');
  expect(words.join()).not.toMatch(/undefined|\[object/);
  expect(ruleWords({ combine: 'sum', steps: [{ step: 'order', members: ['shop', 'crm'] }] } as never, members)).toBe(
    'add up the changes, MR, FC',
  );
});

test('a cause names the systems or the person, and counts are in the right number', () => {
  expect(causeWords({ kind: 'edit', members: ['crm', 'shop'] }, members)).toBe('edited in Fernhill CRM and Market Row');
  expect(causeWords({ kind: 'rule', rule: 'newest', members: ['shop'], over: [] }, members)).toBe(
    'newest edit chose Market Row',
  );
  expect(causeWords({ kind: 'rule', rule: 'order', members: [], over: [] }, members)).toBe(
    'order of systems chose what was agreed',
  );
  expect(causeWords({ kind: 'person', name: 'Ottilie Brandt', over: [] }, members)).toBe('chosen by Ottilie Brandt');
  expect(causeWords(null, members)).toBe('');
  expect(causeWords({ kind: 'key rule', rule: 'Email' }, members)).toBe('the same email');
  expect([plural(1, 'record'), plural(1000, 'record'), kindWords('unsure match', 2), kindWords('held', 1)]).toEqual([
    '1 record',
    '1,000 records',
    'unsure matches',
    'held field',
  ]);
});

test.each([
  [0, '0.00 bits', '50 % sure'],
  [5, '5.00 bits', '97 % sure'],
  [9.25, '9.25 bits', '99.84 % sure'],
  [20, '20.00 bits', 'over 99.99 % sure'],
  [-2, '−2.00 bits', '4 to one against'],
  [-0.2, '−0.20 bits', 'one to one'],
])('a score of %s bits is said with what it means', (bits, score, chance) => {
  expect([bitsWords(bits), chanceWords(bits)]).toEqual([score, chance]);
});

test('a tie says why it was made', () => {
  expect(causeWords({ kind: 'evidence', with: { member: 'crm', key: 'A-1' }, bits: 7.5 }, members)).toBe(
    'like record A-1 of Fernhill CRM, 7.50 bits',
  );
  expect(causeWords({ kind: 'verdict' }, members)).toBe('somebody said that it is the same');
});
