import { changeWords } from './schemaChangeWords.js';

test('each change of an object’s fields is said in words that name the field and both sides', () => {
  expect(
    (
      [
        { kind: 'added', field: 'a', type: 'date' },
        { kind: 'removed', field: 'a', type: 'text' },
        { kind: 'retyped', field: 'a', from: 'text', to: 'number' },
        { kind: 'now required', field: 'a' },
        { kind: 'no longer read-only', field: 'a' },
        { kind: 'choices', field: 'a', added: ['new', 'x'], removed: [] },
        { kind: 'choices', field: 'a', added: ['new'], removed: ['old'] },
        { kind: 'length', field: 'a', from: 40, to: 80 },
        { kind: 'length', field: 'a', to: 80 },
        { kind: 'length', field: 'a', from: 40 },
        { kind: 'reference', field: 'a', to: 'debtor' },
        { kind: 'reference', field: 'a', from: 'debtor' },
      ] as const
    ).map((change) => changeWords(change as Parameters<typeof changeWords>[0])),
  ).toEqual([
    'a is new (date)',
    'a is gone',
    'a was text and is number',
    'a is now required',
    'a is no longer read-only',
    'a can now be new, x',
    'a can now be new, and can no longer be old',
    'a may have 80 characters, no longer 40',
    'a may have 80 characters',
    'a has no limit of length any more',
    'a points to debtor',
    'a no longer points to debtor',
  ]);
});
