import type { Forecast, MemberSummary } from '@anchor-knot/contracts';
import { forecastWords } from './forecastWords';

const members = [
  { id: 'crm', systemName: 'Fernhill CRM' },
  { id: 'shop', systemName: 'Market Row' },
] as unknown as MemberSummary[];
type Anchor = Forecast['anchors'][number];
const anchor = (more: Partial<Anchor>): Anchor => ({
  title: 'Osprey',
  records: [{ member: 'crm', key: 'A-1' }],
  keptOut: false,
  operations: [],
  held: [],
  ...more,
});
const words = (...anchors: Anchor[]) => forecastWords({ anchors }, members, 'customer').slice(0, -1);
const change = (field: string, before: string | null, after: string) => ({ field, before, after });

test('what a split would come to is said of both sides', () => {
  const parted = anchor({
    title: 'Osprey Ltd',
    records: [{ member: 'shop', key: '77' }],
    operations: [{ member: 'crm', kind: 'create', key: null, changes: [change('Name', null, 'Osprey Ltd')] }],
  });
  expect(words(anchor({}), parted)).toEqual([
    '“Osprey” would have 1 record: nothing would be written.',
    '77 would be a customer of its own, “Osprey Ltd”: a record would be created in Fernhill CRM.',
  ]);
  expect(words(anchor({}), { ...parted, keptOut: true, operations: [] })[1]).toBe(
    '77 would be kept out: nothing may start in Market Row.',
  );
});

test('values that would be written are shown, removals and what a person would settle are named', () => {
  const update = {
    member: 'shop',
    kind: 'update' as const,
    key: '77',
    changes: ['a', 'b', 'c', 'd', 'e'].map((field) => change(field, null, `${field}1`)),
  };
  const both = anchor({
    records: [
      { member: 'crm', key: 'A-1' },
      { member: 'shop', key: '77' },
    ],
    operations: [update, { member: 'crm', kind: 'archive', key: 'A-1', changes: [] }],
    held: ['Phone'],
  });
  expect(words(both)).toEqual([
    '“Osprey” would have 2 records: in Market Row a “” → “a1”, b “” → “b1”, ' +
      'c “” → “c1” and ' +
      '2 more values would be written; record A-1 would be archived in Fernhill CRM; ' +
      'a person would have to settle Phone.',
  ]);
});
