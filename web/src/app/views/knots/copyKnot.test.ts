/** A copy keeps what the knot says, over the objects that were chosen, under a name of its own. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter, Router } from '@angular/router';
import { of } from 'rxjs';
import { KnotsApi } from '../../api/knotsApi';
import { SystemsApi } from '../../api/systemsApi';
import { customers } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { refused } from '../../testing/stubs';
import { CopyKnotView } from './copyKnot';

const systems = [
  { id: 'fernhill', name: 'Fernhill CRM', objects: ['accounts', 'people'] },
  { id: 'bellpull', name: 'Bellpull Desk', objects: ['requesters'] },
];

async function shown() {
  const importKnot = jest.fn((_: { knot: { id: string; members: { id: string; system: string; object: string }[] } }) =>
    of('clients'),
  );
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: '**', children: [] }]),
      { provide: KnotsApi, useValue: { draft: () => of({ definition: customers, revision: 0 }), importKnot } },
      { provide: SystemsApi, useValue: { systems: () => of(systems) } },
    ],
  });
  const fixture = TestBed.createComponent(CopyKnotView);
  fixture.componentRef.setInput('id', 'customers');
  await fixture.whenStable();
  return { ...hands(fixture), importKnot };
}

test('it is begun under a name that can be changed, with the same objects until others are chosen', async () => {
  const { type, typed, choose, press, importKnot } = await shown();
  expect(await typed('Name of the copy')).toBe('Customers, copy');
  await type('Name of the copy', ' Clients ');
  await choose('Instead of Fernhill CRM: accounts', 'Bellpull Desk: requesters');
  await press('Copy');
  const { knot } = importKnot.mock.lastCall?.[0] ?? { knot: undefined };
  expect(knot).toEqual({
    ...customers,
    id: 'clients',
    name: 'Clients',
    members: [{ ...customers.members[0], system: 'bellpull', object: 'requesters' }, ...customers.members.slice(1)],
  });
  expect(TestBed.inject(Router).url).toBe('/knots/clients/fields');
});

test('without a name nothing is copied; a refusal is shown, and what was chosen stays', async () => {
  const { type, choose, press, text, chosen, importKnot } = await shown();
  expect(await type('Name of the copy', ' ')).toBe('Give it a name of at most 200 letters.');
  await press('Copy');
  expect(importKnot).not.toHaveBeenCalled();
  await type('Name of the copy', 'Clients');
  await choose('Instead of Fernhill CRM: accounts', 'Fernhill CRM: people');
  importKnot.mockReturnValueOnce(refused(409, { code: 'x', says: 'There is a knot “clients” already.' }) as never);
  await press('Copy');
  expect(await text()).toContain('There is a knot “clients” already.');
  expect(await chosen('Instead of Fernhill CRM: accounts')).toBe('Fernhill CRM: people');
  expect(TestBed.inject(Router).url).toBe('/');
});
