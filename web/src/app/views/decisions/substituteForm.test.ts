/** Where a reference waits it is said once what its value means, or as whom a system is told of a thing. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { MatAutocompleteHarness } from '@angular/material/autocomplete/testing';
import type { Decision, SubstituteRequest } from '@anchor-knot/contracts';
import { of, Subject } from 'rxjs';
import { AnchorsApi } from '../../api/anchorsApi';
import { SubstitutesApi } from '../../api/substitutesApi';
import { Telling } from '../../telling/telling';
import { eventually } from '../../testing/eventually';
import { memberNamed } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { quiet, refused } from '../../testing/stubs';
import { SubstituteForm } from './substituteForm';

const [odell, bram] = ['0193a0de-7a11-7c00-8000-000000000001', '0193a0de-7a11-7c00-8000-000000000002'];
const waiting = (detail: object) =>
  ({
    ...{ id: '7', knot: 'tickets', kind: 'waiting', member: 'desk' },
    detail: { knot: 'people', knotName: 'People', by: { member: 'desk' }, value: null, thing: null, ...detail },
  }) as unknown as Extract<Decision, { kind: 'waiting' }>;

function shown(decision: Extract<Decision, { kind: 'waiting' }>) {
  const undo = new Subject<void>();
  const told: string[] = [];
  const api = {
    say: jest.fn((..._: [string, SubstituteRequest]) => of({ id: '2', runs: ['r'] })),
    takeBack: jest.fn((_: string) => of({})),
  };
  const anchors = jest.fn((..._: unknown[]) => of({ anchors: [{ id: bram, title: 'Bram Quarrie' }] }));
  TestBed.configureTestingModule({
    providers: [
      quiet,
      { provide: SubstitutesApi, useValue: api },
      { provide: AnchorsApi, useValue: { anchors } },
      { provide: Telling, useValue: { offer: (says: string) => (told.push(says), undo) } },
    ],
  });
  const fixture = TestBed.createComponent(SubstituteForm);
  fixture.componentRef.setInput('decision', decision);
  fixture.componentRef.setInput('members', [memberNamed('desk')]);
  const person = hands(fixture);
  const seek = async (text: string, option: string): Promise<void> => {
    const field = await person.loader.getHarness(MatAutocompleteHarness);
    await field.enterText(text);
    await eventually(() => field.selectOption({ text: option }));
  };
  return { api, anchors, told, undo, seek, fixture, ...person };
}

test('a value means one that is sought by name, or nobody; Undo takes it back', async () => {
  const { api, anchors, told, undo, seek, press } = shown(waiting({ value: 'crew.north' }));
  await seek('bram', 'Bram Quarrie');
  expect(anchors).toHaveBeenCalledWith('people', { search: 'bram' });
  const said = { by: { member: 'desk' }, value: 'crew.north', thing: null };
  expect(api.say).toHaveBeenLastCalledWith('people', { ...said, stands: bram });
  expect(told).toEqual(['Bram Quarrie stands for crew.north. What waits for it goes on now.']);
  undo.next();
  expect(api.takeBack).toHaveBeenCalledWith('2');
  await press('It means nobody');
  expect(api.say).toHaveBeenLastCalledWith('people', { ...said, stands: null });
});

test('a thing without a record there is told as another one, and never as nobody; a refusal is said', async () => {
  const { api, seek, buttons, text } = shown(waiting({ thing: odell, title: 'Odell Marsh' }));
  expect(await buttons()).toEqual([]);
  const problem = { code: 'not possible', says: 'That one is not known there either.' };
  api.say.mockReturnValueOnce(refused(409, problem) as never);
  await seek('bram', 'Bram Quarrie');
  expect(api.say).toHaveBeenCalledWith('people', { by: { member: 'desk' }, value: null, thing: odell, stands: bram });
  expect(await text()).toContain('That one is not known there either.');
});
