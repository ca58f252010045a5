/** Everything that has a name is found by parts of it. */
import type { KnotList, SystemSummary } from '@anchor-knot/contracts';
import { placesCalled, placesOf } from './places';

const knots = [
  { id: 'customers', name: 'Customers', version: 3 },
  { id: 'tickets', name: 'Tickets', version: 0 },
] as unknown as KnotList['knots'];
const systems = [
  { id: 'fernhill', name: 'Fernhill CRM', objects: ['accounts', 'sales lines'] },
] as unknown as SystemSummary[];
const called = (text: string): string[] =>
  placesCalled(placesOf(knots, systems), text).map(({ name, kind }) => `${name} (${kind})`);

test('views, knots, drafts, systems, objects and sections are found; what begins with the text comes first', () => {
  expect(called('wat')).toEqual(['Watch (view)']);
  expect(called('tick').slice(0, 2)).toEqual(['Tickets (knot, not in force yet)', 'Tickets: Members (section)']);
  expect(called('fern')[0]).toBe('Fernhill CRM (system)');
  expect(called('customers rules')).toEqual(['Customers: Rules (section)']);
  expect(called('lines fernhill')).toEqual(['sales lines (object of Fernhill CRM)']);
});

test('nothing typed shows the views first, and never too many', () => {
  expect(called('')[0]).toBe('Watch (view)');
  expect(called('').length).toBeLessThanOrEqual(14);
  expect(called('nobody knows')).toEqual([]);
});

test('an object with a blank in its name has an address that leads to it', () => {
  expect(placesCalled(placesOf([], systems), 'sales lines')[0]?.path).toBe(
    '/systems/fernhill/objects/sales%20lines/fields',
  );
});
