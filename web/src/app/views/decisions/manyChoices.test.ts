/** Many decisions at once: each way says beforehand what it comes to, and leaves alone what it does not fit. */
import type { Decision } from '@anchor-knot/contracts';
import { memberNamed } from '../../testing/fakeEditor';
import { manyChoices } from './manyChoices';

const members = [memberNamed('crm', 'fernhill'), memberNamed('shop', 'market'), memberNamed('erp', 'coldharbour')];
const common = {
  knot: 'customers',
  knotName: 'Customers',
  anchor: null,
  title: null,
  member: null,
  key: null,
  field: null,
  fieldName: null,
  says: '',
  fingerprint: 'f',
  openedAt: '2026-11-29T06:00:00.000Z',
  subject: 'Merrow Gardens',
  alike: 0,
  writes: ['crm', 'shop', 'erp'],
  fullest: null,
  putOffUntil: null,
  givenTo: null,
  note: '',
};
const given = (value: string, ...by: string[]) => ({
  value,
  givers: by.map((member) => ({ kind: 'member' as const, member })),
  at: 0,
  isAgreed: false,
});
const held = (id: string, ...candidates: ReturnType<typeof given>[]): Decision => ({
  ...common,
  id,
  kind: 'held',
  detail: { base: null, isCircle: false, candidates },
});
const duplicate = (id: string, fullest: string | null): Decision => ({
  ...common,
  id,
  kind: 'duplicate',
  fullest,
  detail: { value: null, rule: null, keys: ['2', '3'], tiedKey: '1', scores: [] },
});
const refused: Decision = { ...common, id: '9', kind: 'refused', detail: {} };
const ways = (...decisions: Decision[]) => manyChoices(decisions, () => members);

test('held fields take what one system says; who gave nothing there stays, and so does another kind', () => {
  const decisions = [
    held('1', given('a', 'crm'), given('b', 'shop')),
    held('2', given('c', 'crm', 'erp'), given('d', 'shop')),
    held('3', given('e', 'erp'), given('f', 'shop')),
    refused,
  ];
  const [crm, shop, erp, again] = ways(...decisions);
  expect([crm?.says, shop?.says, erp?.says, again?.says]).toEqual([
    'Take what Fernhill CRM says',
    'Take what Market Row says',
    'Take what Coldharbour ERP says',
    'Try again what was refused',
  ]);
  expect(crm?.choices.map(({ decision, choice }) => [decision.id, 'value' in choice && choice.value])).toEqual([
    ['1', 'a'],
    ['2', 'c'],
  ]);
  expect(crm?.follows).toBe(
    '2 fields would take it. Up to so many values would be written: Market Row 2, Coldharbour ERP 1. ' +
      '2 others stay as they are.',
  );
});

test('what every system that may be written has already is said to write nothing', () => {
  const [all] = ways({ ...held('1', given('a', 'crm', 'shop', 'erp')), writes: ['crm', 'shop'] } as Decision);
  expect(all?.follows).toContain('Nothing is to be written.');
});

test('duplicates keep the fuller record, where it is known which that is', () => {
  const [keep, apart] = ways(duplicate('1', '3'), duplicate('2', null));
  expect(keep?.choices).toEqual([
    { decision: duplicate('1', '3'), choice: { choose: 'record', key: '3', fingerprint: 'f' } },
  ]);
  expect(keep?.follows).toContain('2 records set aside');
  expect(keep?.follows).toContain('1 other stays as it is.');
  expect(apart?.choices).toHaveLength(2);
});

test('of kinds that nothing fits together there is nothing to choose', () => {
  expect(ways({ ...common, id: '1', kind: 'unreadable', detail: { raw: null } })).toEqual([]);
});
