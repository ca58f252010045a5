/** Lists in records as objects of their own: added and taken out by hand, under names that are free. */
import { TestBed } from '@angular/core/testing';
import { httpSystemSchema, type Rows, type System } from '@anchor-knot/contracts';
import { hands } from '../../testing/hands';
import { emptyHttpObject } from './httpObjectDraft';
import { RowObjects } from './rowObjects';
import { draftOf, readDraft } from './systemDraft';

const objects: System['objects'] = { orders: emptyHttpObject, shoppers: emptyHttpObject };

function shown(before: Record<string, Rows> = {}) {
  const fixture = TestBed.createComponent(RowObjects);
  let rows: Readonly<Record<string, Rows>> = before;
  fixture.componentRef.setInput('objects', objects);
  fixture.componentRef.setInput('rows', before);
  fixture.componentInstance.changed.subscribe((next) => fixture.componentRef.setInput('rows', (rows = next)));
  return { ...hands(fixture), rows: () => rows };
}

test('rows are added once all is said, under a name that is free, and taken out again', async () => {
  const { press, type, choose, text, rows } = shown();
  await press('Add the rows');
  expect(rows()).toEqual({});
  expect(await text()).toContain('Choose whose records have the list.');
  await type('Rows, called', 'orders');
  await choose('In each record of', 'orders');
  await type('Field that holds the list', ' lines ');
  await type('Told apart by the fields', 'sku, size,');
  await press('Add the rows');
  expect(rows()).toEqual({});
  await type('Rows, called', ' order lines ');
  await press('Add the rows');
  expect(rows()).toEqual({
    'order lines': {
      of: 'orders',
      list: 'lines',
      key: ['sku', 'size'],
      parentField: 'parent',
      positionField: 'position',
    },
  });
  expect(await text()).toContain('sku, size');
  await press('Take “order lines” out');
  expect(rows()).toEqual({});
});

test('the rows of a system are kept when it is changed, and gone with the kind of system', () => {
  const system = httpSystemSchema.parse({
    kind: 'http',
    name: 'Market Row',
    address: 'https://shop.example',
    signIn: { kind: 'none' },
    objects,
    rows: { 'order lines': { of: 'orders', list: 'lines', key: ['sku'] } },
  });
  const draft = draftOf(system);
  expect(readDraft(draft)).toEqual({ ok: true, description: system });
  expect(readDraft({ ...draft, rows: '{"orders":{"of":"bills","list":"lines","key":["sku"]}}' })).toMatchObject({
    ok: false,
    problems: [
      { at: 'rows.orders', says: 'there is an object of this name already' },
      { at: 'rows.orders.of', says: 'there is no object “bills” whose records could have the list' },
    ],
  });
  const asDatabase = { ...draft, kind: 'sql' as const, host: 'h', database: 'd', objects: '{}' };
  expect(readDraft(asDatabase)).toMatchObject({ ok: true, description: { kind: 'sql' } });
});
