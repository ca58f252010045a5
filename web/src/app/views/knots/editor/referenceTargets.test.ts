import { jest } from '@jest/globals';
import { provideZonelessChangeDetection } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { firstValueFrom, of, throwError } from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import { ReferenceTargets } from './referenceTargets';

const asked = { knot: 'customers', keys: { shop: ['77'] }, values: {} };
const answer = {
  names: [{ knot: 'customers', by: { member: 'shop' }, value: '77', anchor: 'x' }],
  substitutes: [{ knot: 'customers', by: { member: 'shop' }, of: { value: 'team' }, stands: 'x' }],
  things: [{ $thing: 'x', knot: 'customers', title: 'Larkspur Orchids' }],
};

const whatIsKnown = { names: answer.names, substitutes: answer.substitutes };
const nothing = { names: [], substitutes: [] };

function targets(things: () => unknown) {
  const api = {
    knots: jest.fn(() =>
      of([
        { id: 'customers', name: 'Customers', version: 3 },
        { id: 'draft', name: 'Not yet', version: 0 },
      ]),
    ),
    version: jest.fn((_: string, version: number) => of({ id: 'customers', version })),
    things,
  };
  TestBed.configureTestingModule({
    providers: [provideZonelessChangeDetection(), ReferenceTargets, { provide: KnotsApi, useValue: api }],
  });
  return { api, targets: TestBed.inject(ReferenceTargets) };
}

test('what is looked up once is known, with the names of the things; no more is asked than needed', async () => {
  const things = jest.fn(() => of(answer));
  const { targets: known } = targets(things);
  expect(await firstValueFrom(known.knownOf([]))).toEqual(nothing);
  expect(things).not.toHaveBeenCalled();
  expect(await firstValueFrom(known.knownOf([asked]))).toEqual(whatIsKnown);
  expect(await firstValueFrom(known.knownOf([{ ...asked }]))).toEqual(whatIsKnown);
  expect(things).toHaveBeenCalledTimes(1);
  expect(known.things()['x']?.title).toBe('Larkspur Orchids');
});

test('what could not be looked up is asked for again the next time', async () => {
  const things = jest.fn((): unknown => throwError(() => new Error('away')));
  const { targets: known } = targets(things);
  expect(await firstValueFrom(known.knownOf([asked]))).toEqual(nothing);
  things.mockReturnValueOnce(of(answer));
  expect(await firstValueFrom(known.knownOf([asked]))).toEqual(whatIsKnown);
});

test('only knots in force can be referred to; the definition of one is loaded once', () => {
  const { targets: known, api } = targets(jest.fn());
  known.load();
  known.load();
  expect(known.knots().map(({ id }) => id)).toEqual(['customers']);
  for (const knot of ['customers', 'customers', 'draft']) known.know(knot);
  expect(api.version.mock.calls).toEqual([['customers', 3]]);
  expect(known.definitions()['customers']).toMatchObject({ version: 3 });
});
