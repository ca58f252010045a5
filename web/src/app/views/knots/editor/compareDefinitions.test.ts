/** Definitions compared, and the tables of all knots, as people look through them. */
import { readFileSync } from 'node:fs';
import { type KnotDefinition, knotDraftSchema, knotFileSchema } from '@anchor-knot/contracts';
import { mapTo, newMapping, removeField, setMapping } from '@anchor-knot/core';
import { tablesOf } from '../../tables/tablesOf';
import { compareDefinitions } from './compareDefinitions';

const demo: KnotDefinition = knotDraftSchema.parse(
  knotFileSchema.parse(JSON.parse(readFileSync('server/demo/customers.knot.json', 'utf8'))).knot,
);

test('two definitions are compared by what things are called, not by where they stand', () => {
  const moved = { ...demo, fields: demo.fields.toReversed() };
  expect(compareDefinitions(demo, moved).every(({ at }) => at === 'fields')).toBe(true);
  const changed = setMapping('email', 'crm', { direction: 'from' })(removeField('note')({ ...demo, name: 'Clients' }));
  expect(compareDefinitions(demo, changed)).toEqual([
    { at: 'name', kind: 'changed', before: 'Customers', after: 'Clients' },
    { at: 'fields.email.mappings.crm.direction', kind: 'changed', before: 'both ways', after: 'from' },
    { at: 'fields.note', kind: 'removed', before: 'note' },
  ]);
  expect(compareDefinitions(demo, JSON.parse(JSON.stringify(demo)) as KnotDefinition)).toEqual([]);
  expect(compareDefinitions(demo, mapTo('email', 'granary', 'x', false)(demo))).toMatchObject([
    { at: 'fields.email.mappings.granary', kind: 'added' },
  ]);
  expect(newMapping('a', 'to')).toMatchObject({ field: 'a', direction: 'to', steps: [] });
});

test('the tables of all knots are found by their name, their knot and their values', () => {
  const knots = [{ definition: demo, isDraft: false }];
  expect(tablesOf(knots, '')).toMatchObject([
    { knotName: 'Customers', usedBy: 'Customer group', shared: 4, found: '' },
  ]);
  expect(tablesOf(knots, 'grower, tr')).toMatchObject([{ found: 'Grower, trade' }]);
  expect(tablesOf(knots, 'customers')).toHaveLength(1);
  expect(tablesOf(knots, 'nowhere')).toEqual([]);
});
