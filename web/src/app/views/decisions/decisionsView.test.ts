/** A list and the one that is looked at: walked by keys, ticked, handled, and loaded as it is scrolled. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { signal } from '@angular/core';
import { type ComponentFixture, TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatChipListboxHarness } from '@angular/material/chips/testing';
import { MatCheckboxHarness } from '@angular/material/checkbox/testing';
import { MATERIAL_ANIMATIONS } from '@angular/material/core';
import { MatDialogHarness } from '@angular/material/dialog/testing';
import { MatMenuHarness } from '@angular/material/menu/testing';
import { provideRouter, Router } from '@angular/router';
import type { Decision, DecisionList } from '@anchor-knot/contracts';
import { of, Subject } from 'rxjs';
import { jest } from '@jest/globals';
import { DecisionsApi } from '../../api/decisionsApi';
import { KnotsApi } from '../../api/knotsApi';
import { LiveEvents } from '../../api/liveEvents';
import { SessionService } from '../../api/session';
import { SystemsApi } from '../../api/systemsApi';
import { memberNamed } from '../../testing/fakeEditor';
import { DecisionsView } from './decisionsView';

const members = [memberNamed('crm'), memberNamed('shop')];
const held = (id: string): Decision => ({
  id,
  kind: 'held',
  knot: 'customers',
  knotName: 'Customers',
  anchor: null,
  title: `Customer ${id}`,
  member: null,
  key: null,
  field: 'phone',
  fieldName: 'Phone',
  says: `Phone of ${id} was given differently.`,
  fingerprint: `seen ${id}`,
  openedAt: '2026-11-29T06:00:00.000Z',
  subject: `Customer ${id}`,
  alike: 0,
  writes: ['crm', 'shop'],
  fullest: null,
  putOffUntil: null,
  givenTo: null,
  note: '',
  detail: {
    base: null,
    isCircle: false,
    candidates: [
      { value: '+441', givers: [{ kind: 'member', member: 'crm' }], at: 0, isAgreed: false },
      { value: '+442', givers: [{ kind: 'member', member: 'shop' }], at: 0, isAgreed: false },
    ],
  },
});
const pageOf = (...decisions: Decision[]): DecisionList => ({
  decisions,
  next: null,
  total: decisions.length,
  kinds: [{ kind: 'held', count: decisions.length }],
  members: { customers: members },
  fields: [],
});

const lacked = ['77051', '77052'].map((lacks, place) => ({
  knot: 'orders',
  knotName: 'Orders',
  field: 'customer',
  fieldName: 'Customer',
  of: 'customers',
  ofName: 'Customers',
  lacks,
  thing: null,
  title: lacks,
  count: 12 - place,
  since: '2026-11-29T06:00:00.000Z',
}));

async function shown(decisions: Decision[], role: 'operator' | 'viewer' = 'operator') {
  const left = [...decisions];
  const asked: unknown[] = [];
  const queries: unknown[] = [];
  const ends = new Subject<void>();
  const take = (ids: readonly string[]): void =>
    ids.forEach((id) =>
      left.splice(
        left.findIndex((one) => one.id === id),
        1,
      ),
    );
  const api: Partial<Record<keyof DecisionsApi, unknown>> = {
    decisions: (query: unknown) => {
      queries.push(query);
      return of(pageOf(...left));
    },
    lacked: () => of({ lacked, total: 3 }),
    decide: (_: string, id: string, choice: unknown) => {
      asked.push([id, choice]);
      take([id]);
      return of({});
    },
    decideMany: ({ decisions: many }: { decisions: { decision: string; choice: unknown }[] }) => {
      asked.push(many);
      take(many.map(({ decision }) => decision));
      return of({ done: many.map(({ decision }) => decision), not: [] });
    },
    putOff: (many: { decision: string }[], until: string | null) => {
      asked.push([many.length, until !== null]);
      take(many.map(({ decision }) => decision));
      return of(many.length);
    },
  };
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: '**', children: [] }]),
      { provide: MATERIAL_ANIMATIONS, useValue: { animationsDisabled: true } },
      { provide: DecisionsApi, useValue: api },
      { provide: KnotsApi, useValue: { knots: () => of([]) } },
      { provide: SystemsApi, useValue: { systems: () => of([]) } },
      { provide: LiveEvents, useValue: { ends, decided: new Subject() } },
      {
        provide: SessionService,
        useValue: { may: (least: string) => role === 'operator' && least !== 'administrator', person: signal({}) },
      },
    ],
  });
  const fixture = TestBed.createComponent(DecisionsView);
  // The list draws what its box has room for.
  const box = fixture.nativeElement as HTMLElement;
  document.body.append(box);
  await fixture.whenStable();
  return { fixture, asked, queries, take, ends, loader: TestbedHarnessEnvironment.documentRootLoader(fixture) };
}
const press = async (fixture: ComponentFixture<unknown>, key: string): Promise<void> => {
  document.body.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true }));
  await fixture.whenStable();
};
const looked = (fixture: ComponentFixture<unknown>): string =>
  (fixture.nativeElement as HTMLElement).querySelector('.one h2')?.textContent.trim() ?? '';

test('the first one is looked at; j and k walk, a digit decides, and the next one is there', async () => {
  const { fixture, asked } = await shown([held('1'), held('2'), held('3')]);
  expect(looked(fixture)).toBe('Customer 1');
  await press(fixture, 'j');
  await press(fixture, 'j');
  await press(fixture, 'j');
  expect(looked(fixture)).toBe('Customer 3');
  await press(fixture, 'k');
  await press(fixture, '2');
  expect(asked).toEqual([['2', { choose: 'value', value: '+442', fingerprint: 'seen 2' }]]);
  expect(looked(fixture)).toBe('Customer 3');
});

test('several that are ticked take what one system says, after what that comes to was said', async () => {
  const { fixture, asked, loader } = await shown([held('1'), held('2'), held('3')]);
  await press(fixture, 'x');
  await press(fixture, 'j');
  await press(fixture, 'x');
  const menu = await loader.getHarness(MatMenuHarness.with({ triggerText: 'Decide them' }));
  await menu.open();
  await menu.clickItem({ text: /Market Row/ });
  const dialog = await loader.getHarness(MatDialogHarness);
  expect(await dialog.getContentText()).toContain('2 fields would take it');
  await (await dialog.getHarness(MatButtonHarness.with({ text: /Take what/ }))).click();
  await fixture.whenStable();
  expect(asked).toEqual([
    ['1', '2'].map((decision) => ({
      knot: 'customers',
      decision,
      choice: { choose: 'value', value: '+442', fingerprint: `seen ${decision}` },
    })),
  ]);
  expect(looked(fixture)).toBe('Customer 3');
});

test('all are ticked at once and put off, and the list says that nothing waits', async () => {
  const { fixture, asked, loader } = await shown([held('1'), held('2')]);
  await (await loader.getHarness(MatCheckboxHarness.with({ selector: '.ticks mat-checkbox' }))).check();
  const menu = await loader.getHarness(MatMenuHarness.with({ triggerText: 'Put off' }));
  await menu.open();
  await menu.clickItem({ text: 'for a week' });
  await fixture.whenStable();
  expect(asked).toEqual([[2, true]]);
  expect((fixture.nativeElement as HTMLElement).textContent).toContain('Nothing waits for you.');
});

test('what a run settles leaves the list, also where nothing is left of it', async () => {
  const { fixture, take, ends } = await shown([held('1'), held('2')]);
  take(['1']);
  ends.next();
  await fixture.whenStable();
  expect(looked(fixture)).toBe('Customer 2');
  take(['2']);
  ends.next();
  await fixture.whenStable();
  expect((fixture.nativeElement as HTMLElement).textContent).toContain('Nothing waits for you.');
});

test('a viewer looks, and neither ticks nor decides', async () => {
  const { fixture, asked, loader } = await shown([held('1'), held('2')], 'viewer');
  await press(fixture, '1');
  expect(asked).toEqual([]);
  expect(await loader.getAllHarnesses(MatCheckboxHarness)).toEqual([]);
  expect((fixture.nativeElement as HTMLElement).textContent).toContain('Your role may look, not decide.');
});

test('references that wait are gathered by what they wait for; a choice shows those of one', async () => {
  const { fixture, queries, loader } = await shown([held('1')]);
  expect((fixture.nativeElement as HTMLElement).textContent).not.toContain('They wait for');
  fixture.componentRef.setInput('kind', 'waiting');
  await fixture.whenStable();
  const navigated = jest.spyOn(TestBed.inject(Router), 'navigate');
  const chips = await (await loader.getHarness(MatChipListboxHarness)).getChips();
  expect(await Promise.all(chips.map((chip) => chip.getText()))).toEqual(['77051 · 12', '77052 · 11']);
  expect((fixture.nativeElement as HTMLElement).textContent).toContain('They wait for 3 things, most of all:');
  await chips[1]?.select();
  expect(navigated.mock.calls.at(-1)?.[1]?.queryParams).toMatchObject({ lacks: '77052' });
  fixture.componentRef.setInput('lacks', '77052');
  await fixture.whenStable();
  expect(queries.at(-1)).toEqual({ kind: 'waiting', lacks: '77052' });
  await chips[1]?.deselect();
  expect(navigated.mock.calls.at(-1)?.[1]?.queryParams).toMatchObject({ lacks: null });
});
