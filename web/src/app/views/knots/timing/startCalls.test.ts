/** Addresses for other programs: made with a secret that is shown once, and removed. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import type { MadeStartCall, StartCall } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import { hands } from '../../../testing/hands';
import { refused, signedInAs, telling } from '../../../testing/stubs';
import { StartCalls } from './startCalls';

const call: StartCall = {
  id: 'c1',
  name: 'Stock count',
  address: 'https://knots.example/hooks/start/c1',
  madeBy: 'Halima',
  madeAt: '2026-11-29T08:00:00Z',
  lastAt: null,
  taken: 12,
  refused: 3,
};

async function shown(calls: readonly StartCall[], role: 'editor' | 'operator' = 'editor') {
  const made: MadeStartCall = { id: 'c2', address: 'https://knots.example/hooks/start/c2', secret: 'whsec_once' };
  const api = {
    startCalls: jest.fn(() => of(calls)),
    makeStartCall: jest.fn((_: string, __: string) => of(made)),
    removeStartCall: jest.fn(() => of(null)),
  };
  const { told, provider } = telling();
  TestBed.configureTestingModule({
    providers: [{ provide: KnotsApi, useValue: api }, signedInAs(role), provider],
  });
  const fixture = TestBed.createComponent(StartCalls);
  fixture.componentRef.setInput('knot', 'customers');
  await fixture.whenStable();
  return { ...hands(fixture), api, told };
}

test('an address is made for a program by its name; its secret is shown, what was refused is not hidden', async () => {
  const { rows, type, press, text, api, typed } = await shown([call]);
  expect((await rows())[0]).toMatch(/Stock count.*hooks\/start\/c1.*12 times.*3 refused/);
  await press('Make an address');
  expect(api.makeStartCall).not.toHaveBeenCalled();
  await type('Name of the program', '  Till ');
  await press('Make an address');
  expect(api.makeStartCall).toHaveBeenCalledWith('customers', 'Till');
  expect(await text()).toContain('whsec_once');
  expect(await typed('Name of the program')).toBe('');
  expect(api.startCalls).toHaveBeenCalledTimes(2);
  api.makeStartCall.mockReturnValueOnce(refused(404, { code: 'not found', says: 'There is no such knot.' }) as never);
  await type('Name of the program', 'Till 2');
  await press('Make an address');
  expect(await text()).toContain('There is no such knot.');
  expect(await typed('Name of the program')).toBe('Till 2');
});

test('one is removed when that is confirmed; who may not change it only looks', async () => {
  const { press, api, told } = await shown([call]);
  await press('Remove');
  expect(told).toEqual(['Remove the address of “Stock count”?']);
  expect(api.removeStartCall).toHaveBeenCalledWith('customers', 'c1');
  TestBed.resetTestingModule();
  expect(await (await shown([call], 'operator')).buttons()).toEqual([]);
});
