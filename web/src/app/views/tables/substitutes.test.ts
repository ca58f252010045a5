/** What stands for whom: listed with who said it, taken back, and said again by Undo. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { SubstituteList, SubstituteRequest, SubstituteView } from '@anchor-knot/contracts';
import { of, Subject } from 'rxjs';
import { SubstitutesApi } from '../../api/substitutesApi';
import { Telling } from '../../telling/telling';
import { hands } from '../../testing/hands';
import { quiet, refused, signedInAs } from '../../testing/stubs';
import { Substitutes } from './substitutes';

const bram = { $thing: '0193a0de-7a11-7c00-8000-000000000001', knot: 'people', title: 'Bram Quarrie' };
const substitute = (more: Partial<SubstituteView>): SubstituteView => ({
  ...{ id: '1', knot: 'people', knotName: 'People', by: { member: 'desk' }, way: 'keys of People in Bellpull Desk' },
  ...{ of: 'crew.north', ofKind: 'value', stands: bram, meansNobody: false },
  ...{ saidBy: 'Halima Boye', saidAt: '2026-11-20T08:00:00Z' },
  ...more,
});

function shown(role: 'viewer' | 'operator', substitutes: readonly SubstituteView[]) {
  const undo = new Subject<void>();
  const told: string[] = [];
  const api = {
    list: jest.fn((_: object) => of<SubstituteList>({ substitutes: [...substitutes], total: substitutes.length })),
    takeBack: jest.fn((_: string) => of({})),
    say: jest.fn((..._: [string, SubstituteRequest]) => of({ id: '2', runs: [] })),
  };
  const telling = {
    offer: (says: string) => (told.push(says), undo),
    sayProblem: (error: { error: { says: string } }) => told.push(error.error.says),
  };
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      quiet,
      signedInAs(role),
      { provide: SubstitutesApi, useValue: api },
      { provide: Telling, useValue: telling },
    ],
  });
  const fixture = TestBed.createComponent(Substitutes);
  return { api, told, undo, fixture, ...hands(fixture) };
}

test('each says for what it stands, among what, and who said it; a team may mean nobody', async () => {
  const { rows, buttons, links } = shown('viewer', [
    substitute({}),
    substitute({ id: '2', stands: null, meansNobody: true }),
    substitute({ id: '3', ofKind: 'thing', of: { ...bram, title: 'Odell Marsh' }, stands: null }),
  ]);
  const [value, nobody, gone] = await rows();
  expect(value).toMatch(/^crew.north ?Bram Quarrie ?keys of People in Bellpull Desk ?Halima Boye, /);
  expect(nobody).toContain('crew.north nobody');
  expect(gone).toContain('Odell Marsh something that is gone');
  expect(await links()).toContain(`/anchors/${bram.$thing}`);
  expect(await buttons()).toEqual([]);
});

test('what is taken back is said again by Undo, and what somebody else took back is said', async () => {
  const { api, told, undo, press, fixture } = shown('operator', [substitute({})]);
  await press('Take back');
  expect(api.takeBack).toHaveBeenCalledWith('1');
  expect(told).toEqual(['Nothing stands for crew.north any more.']);
  undo.next();
  expect(api.say).toHaveBeenCalledWith('people', {
    ...{ by: { member: 'desk' }, value: 'crew.north', thing: null, stands: bram.$thing },
  });
  api.takeBack.mockReturnValueOnce(refused(404, { code: 'not found', says: 'There is no such substitute.' }) as never);
  const before = api.list.mock.calls.length;
  await press('Take back');
  await fixture.whenStable();
  expect(told.at(-1)).toBe('There is no such substitute.');
  expect(api.list.mock.calls.length).toBeGreaterThan(before);
});
