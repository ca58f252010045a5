import { anchorId, type CreateOperation, recordKey } from '@anchor-knot/core';
import { refuseTaken } from './refuseTaken.js';
import type { TieHead } from './stored.js';
import type { WriteEnd } from './writeOperations.js';

const [first, second, third] = ['1', '2', '3'].map((end) => anchorId(`00000000-0000-7000-8000-00000000000${end}`));

const created = (anchor = first, key = 'A'): WriteEnd => {
  const operation = {
    kind: 'create',
    anchor,
    member: 'crm',
    changes: [],
    fingerprint: '',
  } as unknown as CreateOperation;
  const intent = { id: String(anchor), operation, storedAt: 0 };
  const result = { kind: 'written' as const, key: recordKey(key), record: undefined };
  return { intent, state: 'written', key: recordKey(key), result };
};

test('a system that answers a creation with the record of another thing has refused that one', async () => {
  const store = {
    tieHeads: async () => new Map([[recordKey('A'), { anchor: third } as TieHead]]),
  } as never;
  const ends = [created(first, 'A'), created(second, 'B'), created(third, 'B'), created(third, 'A')];
  const refused = await refuseTaken({ store, systemName: () => 'Fernhill CRM' }, 'customers', ends);
  expect(refused.map(({ state }) => state)).toEqual(['refused', 'written', 'refused', 'written']);
  expect(refused[0]?.result).toEqual({
    kind: 'refused',
    words: 'Fernhill CRM answered with its record A, which is another thing’s',
  });
});
