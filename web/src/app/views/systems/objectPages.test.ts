/** Where people see records: said per object, below the system's page or whole, and never an address that does harm. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { TestBed } from '@angular/core/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { pagesOf, sqlSystemSchema, type System } from '@anchor-knot/contracts';
import { ObjectPagesForm } from './objectPages';

const customer = { source: { kind: 'table', table: 'customer' }, key: 'id', recordPage: '/c/{key}' };
const sql = sqlSystemSchema.parse({
  kind: 'sql',
  name: 'ERP',
  host: 'h',
  database: 'd',
  page: 'https://erp.example/app/',
  objects: { customers: customer, orders: { ...customer, recordPage: undefined } },
});

function shown() {
  const fixture = TestBed.createComponent(ObjectPagesForm);
  fixture.componentRef.setInput('objects', sql.objects);
  let objects: System['objects'] = sql.objects;
  fixture.componentInstance.changed.subscribe((changed) =>
    fixture.componentRef.setInput('objects', (objects = changed)),
  );
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const type = async (label: string, text: string) => {
    const host = `[aria-label="${label}"]`;
    const input = await loader.getHarness(MatInputHarness.with({ selector: host }));
    await input.setValue(text);
    await (await input.host()).dispatchEvent('change');
    const field = await loader.getHarness(MatFormFieldHarness.with({ selector: `mat-form-field:has(${host})` }));
    return field.getTextErrors();
  };
  return { type, objects: () => objects as typeof sql.objects };
}

test('a page that is typed belongs to its object, and an emptied one is gone', async () => {
  const { type, objects } = shown();
  expect(await type('Page of one record of orders', '/orders?id={key}')).toEqual([]);
  expect(await type('Page of all of orders', 'https://sales.example/')).toEqual([]);
  expect(await type('Page of one record of customers', '')).toEqual([]);
  expect(objects()).toEqual({
    customers: { ...sql.objects.customers, recordPage: undefined },
    orders: { ...sql.objects.orders, recordPage: '/orders?id={key}', listPage: 'https://sales.example/' },
  });
  expect(Object.keys(objects().customers ?? {})).not.toContain('recordPage');
});

test.each([
  ['/orders', /does not say where the key stands/],
  ['javascript:alert("{key}")', /neither an address nor a path/],
  ['//elsewhere.example/{key}', /neither an address nor a path/],
  ['orders/{key}', /neither an address nor a path/],
])('%s is refused with its reason, and changes nothing', async (text, reason) => {
  const { type, objects } = shown();
  expect((await type('Page of one record of orders', text)).join()).toMatch(reason);
  expect(objects()).toBe(sql.objects);
});

test('a path stands below the page of its system, and leads nowhere where there is none', () => {
  expect(pagesOf(sql, 'customers')).toEqual({ recordPage: 'https://erp.example/app/c/{key}', listPage: null });
  expect(pagesOf({ ...sql, page: undefined }, 'customers').recordPage).toBeNull();
  expect(pagesOf(sql, 'constructor')).toEqual({ recordPage: null, listPage: null });
});
