/** Objects of a JSON interface, by hand or from its document: only what is right is passed on, nothing is lost. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { MatExpansionPanelHarness } from '@angular/material/expansion/testing';
import type { HttpObject, OpenApiReading, System } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { SystemsApi } from '../../api/systemsApi';
import { hands } from '../../testing/hands';
import { refused } from '../../testing/stubs';
import { emptyHttpObject } from './httpObjectDraft';
import { HttpObjects } from './httpObjects';

function shown(before: Record<string, HttpObject> = {}) {
  const api = {
    readOpenApi: jest.fn((_: { document: string } | { address: string }) =>
      of<OpenApiReading>({ title: 'Parcels', signIn: { kind: 'none' }, objects: [] }),
    ),
  };
  TestBed.configureTestingModule({ providers: [{ provide: SystemsApi, useValue: api }] });
  const fixture = TestBed.createComponent(HttpObjects);
  let objects: System['objects'] = before;
  const read = jest.fn();
  fixture.componentRef.setInput('objects', before);
  fixture.componentInstance.changed.subscribe((next) => fixture.componentRef.setInput('objects', (objects = next)));
  fixture.componentInstance.read.subscribe(read);
  const all = hands(fixture);
  const open = async () => (await all.loader.getHarness(MatExpansionPanelHarness)).expand();
  return { ...all, api, read, open, objects: () => objects as Record<string, HttpObject> };
}

test('one is added by hand under a name of its own, and opened', async () => {
  const { press, type, objects, typed } = shown();
  await press('Add it by hand');
  expect(objects()).toEqual({});
  await type('Object, called', ' sales orders ');
  await press('Add it by hand');
  expect(objects()['sales orders']).toMatchObject({
    list: { path: '/sales%20orders' },
    read: { path: '/sales%20orders/{key}' },
  });
  expect(await typed('Listed at')).toBe('/sales%20orders');
  await type('Object, called', 'sales orders');
  await press('Add it by hand');
  expect(Object.keys(objects())).toEqual(['sales orders']);
});

test('what is typed is passed on as long as it is right; what is wrong stays as typed, with its reason', async () => {
  const { type, typed, open, text, objects, choose } = shown({ orders: emptyHttpObject });
  await open();
  await type('Listed at', '/api/orders');
  await type('Deleted, told in', 'deletedAt');
  await type('Found by', 'email = mail');
  expect(objects().orders).toMatchObject({
    list: { path: '/api/orders', deleted: { field: 'deletedAt' } },
    search: { email: 'mail' },
  });
  await type('Records a page', 'many');
  expect(await text()).toContain('Records a page:');
  expect(objects().orders?.list.pageSize.value).toBe(100);
  expect(await typed('Records a page')).toBe('many');
  await type('Records a page', '50');
  expect(objects().orders?.list.pageSize.value).toBe(50);
  await choose('Pages', 'by offset');
  await type('Page, parameter', 'from');
  expect(objects().orders?.list.paging).toEqual({ kind: 'offset', parameter: 'from' });
});

test('how it is created, archived and given new fields is set without JSON', async () => {
  const { type, open, choose, objects } = shown({ orders: emptyHttpObject });
  await open();
  await choose('Create', 'POST');
  await type('Create at', '/orders');
  await type('Idempotency header', 'idempotency-key');
  await type('A creation needs', 'email, , name');
  await type('Archived by', 'closed');
  await type('given', 'true');
  await choose('Fields are added', 'by POST');
  await type('Fields, added at', '/fields');
  await type('name in', 'label');
  await type('type in', 'kind');
  await type('Text is called', 'string');
  expect(objects().orders).toMatchObject({
    create: { method: 'POST', path: '/orders', idempotencyHeader: 'idempotency-key', requires: ['email', 'name'] },
    archive: { field: 'closed', value: true },
    createField: { method: 'POST', path: '/fields', name: 'label', type: 'kind', types: { text: 'string' } },
  });
});

test('a document fills in what it names; what is ticked is an object, whatever it is called', async () => {
  const { press, type, tick, rows, text, read, api, objects } = shown();
  api.readOpenApi.mockReturnValueOnce(refused(422, { code: 'x', says: 'This is no OpenAPI 3 document.' }) as never);
  await press('Fetch it');
  expect(api.readOpenApi).not.toHaveBeenCalled();
  await type('or from its address', 'https://parcels.example/openapi.json');
  await press('Fetch it');
  expect(await text()).toContain('This is no OpenAPI 3 document.');
  const reading: OpenApiReading = {
    title: 'Parcels',
    signIn: { kind: 'none' },
    objects: [{ name: 'constructor', object: emptyHttpObject, doubts: ['no field tells when it was changed'] }],
  };
  api.readOpenApi.mockReturnValueOnce(of(reading));
  await press('Fetch it');
  expect(read).toHaveBeenCalledWith(reading);
  expect((await rows())[0]).toContain('no field tells when it was changed');
  await tick('constructor');
  expect(Object.keys(objects())).toEqual(['constructor']);
  await tick('constructor');
  expect(Object.keys(objects())).toEqual([]);
});

test('one is taken out; the others stay', async () => {
  const { press, open, objects } = shown({ orders: emptyHttpObject, parcels: emptyHttpObject });
  await open();
  await press('Take “orders” out');
  expect(Object.keys(objects())).toEqual(['parcels']);
});
