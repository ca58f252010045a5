/** The rows of a thing within its page: what is agreed, what a system says otherwise, and what is to be decided. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import { MatPaginatorHarness } from '@angular/material/paginator/testing';
import { MatTableHarness } from '@angular/material/table/testing';
import type { AnchorRows as Rows, AnchorView, Cell } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { AnchorsApi } from '../../api/anchorsApi';
import { memberNamed } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { quiet, signedInAs, telling } from '../../testing/stubs';
import { StartRun } from '../runs/startRun';
import { AnchorRows } from './anchorRows';

const cell = (state: Cell['state'], raw: unknown = null): Cell =>
  ({ state, raw, meaning: raw, reason: null, direction: 'both ways', path: 'p' }) as Cell;
const member = (id: string, key: string | null): AnchorView['members'][number] => ({
  ...memberNamed(id),
  ...{ key, gone: false, rejected: [], parked: null, unacknowledgedSince: null, told: [] },
});
const field = (id: string, value: unknown, cells: Record<string, Cell>): AnchorView['fields'][number] =>
  ({
    ...{ id, name: id, type: 'text' },
    agreed: { value, by: { kind: 'member', member: 'shop' }, at: '2026-11-29T08:00:00Z', why: { kind: 'start' } },
    cells,
  }) as unknown as AnchorView['fields'][number];
const both = cell('agrees');
const line = (article: string, quantity: number, erp: Cell, erpKey: string | null): AnchorView => ({
  ...{ id: article, knot: 'lines', knotName: 'Lines', thing: 'line', title: `7 / ${article}`, agrees: true },
  members: [member('shop', `7/${article}`), member('erp', erpKey)],
  fields: [
    field('Order', { $thing: 'a1', knot: 'orders', title: '7' }, { shop: both, erp: both }),
    field('Order number', '7', { shop: both, erp: both }),
    field('Article', article, { shop: both, erp: both }),
    field('Quantity', quantity, { shop: both, erp }),
    field('Line', `7 / ${article}`, { shop: cell('no mapping'), erp: cell('no mapping') }),
  ],
  ...{ decisions: [], journal: [], referring: [] },
});

async function shown(rows: readonly AnchorView[], total = rows.length) {
  const ask = jest.fn((_: string, __: string, ___: number) => of<Rows>({ total, rows: [...rows] }));
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: AnchorsApi, useValue: { rows: ask } },
      { provide: StartRun, useValue: {} },
      signedInAs('viewer'),
      telling().provider,
      quiet,
    ],
  });
  const fixture = TestBed.createComponent(AnchorRows);
  fixture.componentRef.setInput('anchor', 'a1');
  fixture.componentRef.setInput('called', '7');
  fixture.componentRef.setInput('of', { knot: 'lines', knotName: 'Lines', count: total, isRows: true, first: [] });
  await fixture.whenStable();
  return { ...hands(fixture), ask };
}

test('each row shows what is agreed; what leads back, and what is only worked out, has no column', async () => {
  const { loader, text } = await shown([line('E1', 2, both, '11'), line('E2', 3, cell('differs', '4'), '12')]);
  const table = await loader.getHarness(MatTableHarness);
  const [head] = await table.getHeaderRows();
  expect(await head?.getCellTextByIndex()).toEqual(['Row', 'Article', 'Quantity']);
  const cells = await Promise.all((await table.getRows()).map((row) => row.getCellTextByColumnName()));
  expect(cells.map(({ Article }) => Article)).toEqual(['E1', 'E2']);
  expect(cells[0]?.Quantity).toBe('2');
  expect(cells[1]?.Quantity).toMatch(/^3.*4 differs$/s);
  expect(await text()).toContain('2 rows');
});

test('a row that a system does not have says so, and one that is held says what that system has', async () => {
  const { text } = await shown([line('E1', 2, cell('not sent'), null), line('E2', 3, cell('ahead', '9'), '12')]);
  expect(await text()).toContain('not in Coldharbour ERP');
  expect(await text()).toMatch(/9\s+held/);
});

test('many rows come page by page', async () => {
  const { loader, ask } = await shown([line('E1', 2, both, '11')], 120);
  const pages = await loader.getHarness(MatPaginatorHarness);
  expect(await pages.getRangeLabel()).toBe('1 – 50 of 120');
  await pages.goToNextPage();
  expect(ask.mock.calls).toEqual([
    ['a1', 'lines', 0],
    ['a1', 'lines', 50],
  ]);
});
