/** Material's table with rows that have a type, a header of their own, and stay themselves when they are read anew. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { ChangeDetectionStrategy, Component, signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatTableHarness } from '@angular/material/table/testing';
import { tableParts } from './rows';

@Component({
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts],
  template: `
    <table mat-table akBy="system key" [dataSource]="rows()">
      <ng-container matColumnDef="key">
        <th mat-header-cell *matHeaderCellDef scope="col">Key</th>
        <th akRowHeader *akCell="let row of rows()">{{ row.key.toUpperCase() }}</th>
      </ng-container>
      <ng-container matColumnDef="name">
        <th mat-header-cell *matHeaderCellDef scope="col">Name</th>
        <td mat-cell *akCell="let row of rows(); let index = index">
          {{ index + 1 }} {{ row.name }}<button type="button">open</button>
        </td>
      </ng-container>
      <tr mat-header-row *matHeaderRowDef="columns()"></tr>
      <tr mat-row *akRow="let row of rows(); columns: columns()" [class.chosen]="row.key === 'b'"></tr>
      <tr *matNoDataRow>
        <td>nothing</td>
      </tr>
    </table>
  `,
})
class Records {
  readonly rows = signal([
    { system: 'crm', key: 'a', name: 'Reed' },
    { system: 'crm', key: 'b', name: 'Sedge' },
  ]);
  readonly columns = signal(['key', 'name']);
}

async function shown() {
  const fixture = TestBed.createComponent(Records);
  document.body.append(fixture.nativeElement as HTMLElement);
  await fixture.whenStable();
  const table = await TestbedHarnessEnvironment.loader(fixture).getHarness(MatTableHarness);
  return { fixture, host: fixture.nativeElement as HTMLElement, view: fixture.componentInstance, table };
}

test('each row has its header, its values and its look', async () => {
  const { host, table } = await shown();
  expect(await table.getCellTextByColumnName()).toEqual({
    key: { headerText: ['Key'], footerText: [], text: ['A', 'B'] },
    name: { headerText: ['Name'], footerText: [], text: ['1 Reedopen', '2 Sedgeopen'] },
  });
  const header = host.querySelector('tbody th');
  expect([header?.getAttribute('scope'), header?.getAttribute('role')]).toEqual(['row', null]);
  expect(Array.from(host.querySelectorAll('tr.chosen'), (row) => row.textContent.trim())).toEqual(['B 2 Sedgeopen']);
});

test('what is read anew keeps the focus where it is; a record of the same key elsewhere is another row', async () => {
  const { fixture, host, view } = await shown();
  const button = host.querySelectorAll('button')[1] as HTMLButtonElement;
  button.focus();
  view.rows.set([
    { system: 'erp', key: 'b', name: 'Heron' },
    { system: 'crm', key: 'b', name: 'Sedge & Daughters' },
  ]);
  await fixture.whenStable();
  expect(document.activeElement).toBe(button);
  expect(button.closest('tr')?.textContent).toContain('Sedge & Daughters');
  expect(host.querySelectorAll('tbody tr')).toHaveLength(2);
});

test('columns come and go; without rows it is said so', async () => {
  const { fixture, host, view, table } = await shown();
  view.columns.set(['name']);
  await fixture.whenStable();
  expect(Object.keys(await table.getCellTextByColumnName())).toEqual(['name']);
  view.rows.set([]);
  await fixture.whenStable();
  expect(host.querySelector('tbody')?.textContent.trim()).toBe('nothing');
});
