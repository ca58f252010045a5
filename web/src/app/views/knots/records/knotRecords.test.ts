/** The lists that every record is in: counts lead to them, what is done leaves the list, late answers are dropped. */
import { signal } from '@angular/core';
import { type ComponentFixture, TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatTableHarness } from '@angular/material/table/testing';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { HttpErrorResponse } from '@angular/common/http';
import { ActivatedRoute, convertToParamMap, provideRouter } from '@angular/router';
import type { KnotView, ListedRecords } from '@anchor-knot/contracts';
import { BehaviorSubject, NEVER, of, Subject, throwError } from 'rxjs';

import { AnchorsApi } from '../../../api/anchorsApi';
import { KnotsApi } from '../../../api/knotsApi';
import { LiveEvents } from '../../../api/liveEvents';
import { SessionService } from '../../../api/session';
import { KnotRecords } from './knotRecords';

const pennant = { pattern: 'halves', colour: 'petrol', letters: 'CE' };
const knot = {
  id: 'customers',
  thing: 'customer',
  members: [{ id: 'erp', systemName: 'Coldharbour ERP', pennant }],
} as unknown as KnotView;
const waited = { count: 3, late: 1 };
const account = { tied: 336, waiting: 0, rejected: 0, aside: 1, untied: 2, filtered: 0 };
const page = (...keys: string[]): ListedRecords => ({
  records: keys.map((key) => ({ key, title: `Debtor ${key}`, why: 'It matches nothing.', anchor: null })),
  next: null,
});

function shown(api: Partial<Record<keyof KnotsApi | keyof AnchorsApi, unknown>>, may = true) {
  const query = new BehaviorSubject(convertToParamMap({ member: 'erp', list: 'untied' }));
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      {
        provide: KnotsApi,
        useValue: {
          accounts: () => of({ members: [{ member: 'erp', account, total: 339, unacknowledged: waited }] }),
          ...api,
        },
      },
      { provide: AnchorsApi, useValue: api },
      { provide: LiveEvents, useValue: { ends: NEVER } },
      { provide: SessionService, useValue: { may: () => may, person: signal(undefined) } },
      { provide: ActivatedRoute, useValue: { queryParamMap: query } },
    ],
  });
  const fixture = TestBed.createComponent(KnotRecords);
  fixture.componentRef.setInput('knot', knot);
  return { fixture, query, loader: TestbedHarnessEnvironment.loader(fixture) };
}
const textOf = (fixture: ComponentFixture<unknown>): string => (fixture.nativeElement as HTMLElement).textContent ?? '';

test('a number leads to its list; a record that was set aside leaves it', async () => {
  const acts: unknown[] = [];
  const { fixture, loader } = shown({
    listedRecords: () => of(page('D1', 'D2')),
    actOnRecord: (...act: unknown[]) => (acts.push(act), of({ anchor: null })),
  });
  await fixture.whenStable();
  const link = (fixture.nativeElement as HTMLElement).querySelector('a[aria-label="2 Untied, Coldharbour ERP"]');
  expect(link?.getAttribute('href')).toContain('member=erp&list=untied');
  const table = await loader.getHarness(MatTableHarness.with({ selector: '[aria-label]' }));
  expect(await table.getCellTextByColumnName()).toMatchObject({ key: { text: ['D1', 'D2'] } });
  await (await loader.getHarness(MatButtonHarness.with({ text: 'Set aside' }))).click();
  expect(acts).toEqual([['customers', 'erp', 'D1', 'set aside']]);
  expect(await table.getCellTextByColumnName()).toMatchObject({ key: { text: ['D2'] } });
});

test('what is refused is said and the record stays; who may only look is offered nothing', async () => {
  const says = 'This record is tied by now, or not there any more.';
  const error = { code: 'not possible', says, advice: 'Load the list again.' };
  const refused = shown({
    listedRecords: () => of(page('D1')),
    actOnRecord: () => throwError(() => new HttpErrorResponse({ status: 409, error })),
  });
  await refused.fixture.whenStable();
  await (await refused.loader.getHarness(MatButtonHarness.with({ text: 'Let it start a customer' }))).click();
  expect(textOf(refused.fixture)).toContain(says);
  expect(textOf(refused.fixture)).toContain('Debtor D1');
  TestBed.resetTestingModule();
  const viewer = shown({ listedRecords: () => of(page('D1')) }, false);
  await viewer.fixture.whenStable();
  expect(await viewer.loader.getAllHarnesses(MatButtonHarness.with({ text: /start|Tie|aside/ }))).toEqual([]);
});

test('a late answer for another list is dropped', async () => {
  const untied = new Subject<ListedRecords>();
  const { fixture, query } = shown({
    listedRecords: (_: string, { list }: { list: string }) => (list === 'untied' ? untied : of(page('A1'))),
  });
  await fixture.whenStable();
  query.next(convertToParamMap({ member: 'erp', list: 'aside' }));
  await fixture.whenStable();
  untied.next(page('D1'));
  await fixture.whenStable();
  expect(textOf(fixture)).toContain('Debtor A1');
  expect(textOf(fixture)).not.toContain('Debtor D1');
});

test('tied records that wait for an acknowledgement are counted besides, late ones too; each leads on', async () => {
  const why = 'It was written, and its system has not acknowledged it yet.';
  const { fixture, query } = shown({
    listedRecords: () => of({ records: [{ key: 'D7', title: 'Marram', why, anchor: 'a7' }], next: null }),
  });
  query.next(convertToParamMap({ member: 'erp', list: 'unacknowledged' }));
  await fixture.whenStable();
  const element = fixture.nativeElement as HTMLElement;
  const link = element.querySelector('a[aria-label="3 Not acknowledged, Coldharbour ERP"]');
  expect(link?.parentElement?.textContent).toContain('1 late');
  expect(textOf(fixture)).toContain('of which their system has not acknowledged what was written');
  expect(element.querySelector('a[href="/anchors/a7"]')?.textContent).toBe('Marram');
});
