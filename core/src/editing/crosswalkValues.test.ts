/** What is typed into a crosswalk is what the system has: a number stays a number, and what is none stays text. */
import { fieldsThrough, kindOfValues, typedValue } from './crosswalkValues.js';

test.each([
  [[], undefined],
  [[7, 8], 'number'],
  [[true, false], 'yes/no'],
  [['7', '8'], 'text'],
  [[7, 'none'], 'text'],
])('values %j are %s', (values, kind) => expect(kindOfValues(values)).toBe(kind));

test.each([
  ['7', 'number', 7],
  ['-3.5', 'number', -3.5],
  ['007', 'number', '007'],
  ['1.50', 'number', '1.50'],
  ['9007199254740993', 'number', '9007199254740993'],
  ['none', 'number', 'none'],
  ['', 'number', ''],
  ['true', 'yes/no', true],
  ['yes', 'yes/no', 'yes'],
  ['7', 'text', '7'],
] as const)('%s where a system has %s is %j', (text, kind, value) => expect(typedValue(text, kind)).toBe(value));

test('only fields that are read, and by the table first, go through it', () => {
  const through = (direction: 'from' | 'to', ...tables: string[]) => ({
    field: `${direction} ${tables.join()}`,
    direction,
    steps: tables.map((table) => ({ kind: 'crosswalk', table })),
  });
  const field = (mapping: object) => ({ mappings: { shop: mapping } });
  const fields = [through('from', 'groups'), through('to', 'groups'), through('from', 'others', 'groups')].map(field);
  expect(fieldsThrough({ fields } as never, 'groups', 'shop')).toEqual(['from groups']);
  expect(fieldsThrough({ fields } as never, 'groups', 'crm')).toEqual([]);
});
