/** What failed alike is one row: why, where, how many; and what repairs all of it at once. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { DecidedMany, FailureGroup, TakenIn } from '@anchor-knot/contracts';
import { NEVER, type Observable, of, Subject } from 'rxjs';
import { DecisionsApi } from '../../api/decisionsApi';
import { KnotsApi } from '../../api/knotsApi';
import { LiveEvents } from '../../api/liveEvents';
import { RepairApi } from '../../api/repairApi';
import { Downloads } from '../../telling/downloads';
import { eventually } from '../../testing/eventually';
import { memberNamed } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { refused, signedInAs, telling } from '../../testing/stubs';
import { RepairView } from './repairView';

const group = (more: Partial<FailureGroup>): FailureGroup => ({
  knot: 'customers',
  kind: 'refused',
  member: 'shop',
  field: null,
  reason: 'postcode invalid',
  knotName: 'Customers',
  system: memberNamed('shop'),
  fieldName: null,
  count: 1212,
  firstAt: '2026-11-20T08:00:00Z',
  attempts: 3,
  latestAt: '2026-11-29T08:00:00Z',
  decision: '17',
  fingerprint: 'postcode invalid',
  canTryAgain: true,
  canCorrect: false,
  ...more,
});
const unreadable = group({
  kind: 'unreadable',
  member: 'crm',
  field: 'country',
  fieldName: 'Country',
  reason: 'no country is called “Albion”',
  system: memberNamed('crm'),
  count: 4,
  decision: '9',
  attempts: 0,
  canTryAgain: false,
  canCorrect: true,
});

async function shown(groups: readonly FailureGroup[], role: 'operator' | 'viewer' = 'operator') {
  const taken: TakenIn = {
    corrected: 3,
    untouched: 2,
    refused: [{ row: 4, record: 'A-7', says: 'It would still be rejected.' }],
  };
  const api = {
    groups: jest.fn(() => of({ groups, mostGroups: 200 })),
    file: jest.fn(() => of('decision,record\n')),
    takeIn: jest.fn((_: FailureGroup, __: string): Observable<TakenIn> => of(taken)),
  };
  const many = (length: number): DecidedMany => ({ done: Array.from({ length }, String), not: [] });
  const tryAlikeAgain = jest.fn((_: unknown) => of(many(500)));
  tryAlikeAgain
    .mockReturnValueOnce(of(many(500)))
    .mockReturnValueOnce(of(many(500)))
    .mockReturnValueOnce(of(many(212)));
  const { told, provider } = telling();
  const save = jest.fn();
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: RepairApi, useValue: api },
      { provide: DecisionsApi, useValue: { tryAlikeAgain } },
      { provide: KnotsApi, useValue: { knots: () => of([]) } },
      { provide: LiveEvents, useValue: { ends: NEVER, decided: new Subject() } },
      { provide: Downloads, useValue: { save } },
      signedInAs(role),
      provider,
    ],
  });
  const fixture = TestBed.createComponent(RepairView);
  await fixture.whenStable();
  return { ...hands(fixture), api, told, save, tryAlikeAgain, fixture };
}

test('each reason is one row that leads to its decisions; all that was refused so is tried again', async () => {
  const { rows, links, press, told, tryAlikeAgain, text, api } = await shown([group({}), unreadable]);
  const [first, second] = await rows();
  expect(first).toContain(`${memberNamed('shop').systemName} says: postcode invalid`);
  expect(first).toContain('1,212');
  expect(first).toContain('tried 3 times');
  expect(second).not.toContain('tried');
  expect(second).toContain('Country: no country is called “Albion”');
  expect(await text()).toContain('1,216 records');
  const [, albion = ''] = await links();
  expect(new URL(albion ?? '', 'http://x').searchParams.get('reason')).toBe('no country is called “Albion”');
  await press('Try all 1,212 again');
  expect(tryAlikeAgain).toHaveBeenCalledTimes(3);
  expect(tryAlikeAgain).toHaveBeenCalledWith({ knot: 'customers', id: '17', fingerprint: 'postcode invalid' });
  expect(told).toEqual(['1,212 writes will be tried again with the next run.']);
  await eventually(() => expect(api.groups).toHaveBeenCalledTimes(2));
});

test('records go out in a file and come in corrected; each row that was not taken says why', async () => {
  const { press, save, fixture, text, api } = await shown([unreadable]);
  await press('Download');
  expect(save).toHaveBeenCalledWith('Customers unreadable.csv', 'text/csv', 'decision,record\n');
  const picker = (fixture.nativeElement as HTMLElement).querySelector('input[type=file]') as HTMLInputElement;
  const file = { text: () => Promise.resolve('corrected') };
  Object.defineProperty(picker, 'files', { value: [file] });
  Object.defineProperty(picker, 'value', { value: '', writable: true });
  picker.dispatchEvent(new Event('change'));
  await eventually(async () => expect(await text()).toContain('3 records corrected'));
  expect(api.takeIn.mock.lastCall?.[1]).toBe('corrected');
  expect(await text()).toContain('2 rows had nothing in the last column.');
  expect(await text()).toContain('Row 4, record A-7: It would still be rejected.');
  api.takeIn.mockReturnValueOnce(refused(422, { code: 'not valid', says: 'This is no CSV.' }) as never);
  picker.dispatchEvent(new Event('change'));
  await eventually(async () => expect(await text()).toContain('This is no CSV.'));
});

test('who may only look is offered nothing; where nothing failed, it says what will be here', async () => {
  expect(await (await shown([group({}), unreadable], 'viewer')).buttons()).toEqual([]);
  TestBed.resetTestingModule();
  expect(await (await shown([])).text()).toContain('Nothing waits to be repaired.');
});
