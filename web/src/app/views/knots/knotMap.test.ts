import { type ComponentRef, provideZonelessChangeDetection } from '@angular/core';
import { type ComponentFixture, TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import { KnotMap, type MappedKnot } from './knotMap';

let fixture: ComponentFixture<KnotMap>;
let component: ComponentRef<KnotMap>;
beforeEach(() => {
  TestBed.configureTestingModule({
    imports: [KnotMap],
    providers: [provideZonelessChangeDetection(), provideRouter([])],
  });
  fixture = TestBed.createComponent(KnotMap);
  component = fixture.componentRef;
});

const knot = (id: string, ...refersTo: [string, ...string[]][]): MappedKnot => ({
  id,
  name: id.toUpperCase(),
  says: '3 anchors',
  refersTo: refersTo.map(([to, ...fields]) => ({ knot: to, fields })),
});
const draw = async (...knots: MappedKnot[]): Promise<HTMLElement> => {
  component.setInput('knots', knots);
  await fixture.whenStable();
  return fixture.nativeElement as HTMLElement;
};
const lefts = (element: HTMLElement): Record<string, number> =>
  Object.fromEntries(
    [...element.querySelectorAll<HTMLElement>('li')].map((item) => [
      item.querySelector('a')?.textContent?.trim() ?? '',
      Number.parseFloat(item.style.left),
    ]),
  );

test('knots stand from left to right as they run together, and lead to their fields; others are left out', async () => {
  const element = await draw(
    knot('lines', ['orders', 'Order']),
    knot('orders', ['customers', 'Customer', 'Payer'], ['people', 'Seller']),
    knot('customers'),
    knot('people'),
    knot('alone'),
  );
  const at = lefts(element);
  expect(Object.keys(at).sort()).toEqual(['CUSTOMERS', 'LINES', 'ORDERS', 'PEOPLE']);
  expect(at['CUSTOMERS']).toBeLessThan(at['ORDERS'] ?? 0);
  expect(at['PEOPLE']).toBe(at['CUSTOMERS']);
  expect(at['ORDERS']).toBeLessThan(at['LINES'] ?? 0);
  expect([...element.querySelectorAll('text')].map(({ textContent }) => textContent).sort()).toEqual([
    'Customer, Payer',
    'Order',
    'Seller',
  ]);
  expect(element.querySelector('a[href="/knots/orders/fields"]')).not.toBeNull();
});

test('a circle is drawn too, and what refers to itself says so; without references there is no map', async () => {
  const element = await draw(knot('a', ['b', 'Other']), knot('b', ['a', 'Back'], ['b', 'Parent'], ['gone', 'Lost']));
  expect(element.querySelectorAll('.line')).toHaveLength(2);
  expect(element.textContent).toContain('refers to itself: Parent');
  expect((await draw(knot('a'), knot('b'))).querySelector('section')).toBeNull();
});
