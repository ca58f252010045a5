import { smallKnot } from '../testing/smallKnot.js';
import type { Knot } from './knot.js';
import { knotOrder } from './knotOrder.js';

function knot(id: string, ...refersTo: string[]): Knot {
  const small = smallKnot({ members: 2, rule: { steps: [{ step: 'ask' }] } });
  const [field] = small.fields;
  if (!field) throw new Error('it has no field');
  return { ...small, id, fields: refersTo.map((to) => ({ ...field, id: `to${to}`, type: 'reference', refersTo: to })) };
}
const orderOf = (...knots: Knot[]): string[] => knotOrder(knots).map(({ id, after }) => `${id} after ${after.join()}`);

test('what is referred to runs first, however the knots are given', () => {
  const [lines, orders, customers] = [
    knot('lines', 'orders'),
    knot('orders', 'customers', 'people'),
    knot('customers'),
  ];
  const expected = ['customers after ', 'people after ', 'orders after customers,people', 'lines after orders'];
  const sorted = (found: string[]): string[] => [...found].sort();
  expect(sorted(orderOf(lines, orders, customers, knot('people')))).toEqual(sorted(expected));
  expect(orderOf(customers, knot('people'), orders, lines)).toEqual(orderOf(lines, knot('people'), orders, customers));
  const ids = knotOrder([lines, orders, customers, knot('people')]).map(({ id }) => id);
  expect(ids.indexOf('orders')).toBeGreaterThan(ids.indexOf('people'));
  expect(ids.indexOf('lines')).toBe(3);
});

test('in a circle one comes first and waits for nobody; itself and what is not there do not count', () => {
  expect(orderOf(knot('a', 'b'), knot('b', 'a'))).toEqual(['b after ', 'a after b']);
  expect(orderOf(knot('tasks', 'tasks', 'gone'))).toEqual(['tasks after ']);
});
