/** Which knots there are; all of them are paused, and taken up again, at once. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter, Router } from '@angular/router';
import type { KnotStanding } from '@anchor-knot/contracts';
import { NEVER, of } from 'rxjs';
import { KnotsApi } from '../../api/knotsApi';
import { LiveEvents } from '../../api/liveEvents';
import { RunsApi } from '../../api/runsApi';
import { hands } from '../../testing/hands';
import { refused, signedInAs, telling } from '../../testing/stubs';
import { KnotsView } from './knotsView';

const knot = (id: string, standing: Partial<KnotStanding>, version = 1) => ({
  id,
  name: id,
  version,
  draftBy: null,
  draftAt: null,
  refersTo: [],
  standing: { state: 'running', by: null, at: null, until: null, pausedTogether: false, ...standing },
});

async function shown(knots: readonly object[], role: 'editor' | 'viewer' = 'editor') {
  const api = {
    knots: jest.fn(() => of(knots)),
    setAllStates: jest.fn((_: string) => of(2)),
  };
  const startTogether = jest.fn(() =>
    of([
      { knot: 'b', run: '1', after: [] },
      { knot: 'a', run: '2', after: ['b'] },
    ]),
  );
  const { told, provider } = telling();
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: 'runs', children: [] }]),
      { provide: KnotsApi, useValue: api },
      { provide: RunsApi, useValue: { watch: () => of({ knots: [] }), startTogether } },
      { provide: LiveEvents, useValue: { ends: NEVER } },
      signedInAs(role),
      provider,
    ],
  });
  const fixture = TestBed.createComponent(KnotsView);
  await fixture.whenStable();
  return { ...hands(fixture), api, told, startTogether };
}

test('all that run are paused when that is confirmed, and it is said how many', async () => {
  const { press, api, told, buttons, text } = await shown([knot('a', {}), knot('b', { state: 'paused' })]);
  expect(await buttons()).not.toContain('Take all up again');
  await press('Pause all');
  expect(api.setAllStates).toHaveBeenCalledWith('paused');
  expect(told).toEqual(['Pause all knots?', '2 knots paused.']);
  expect(api.knots).toHaveBeenCalledTimes(2);
  api.setAllStates.mockReturnValueOnce(refused(503, { code: 'fault', says: 'The database is away.' }) as never);
  await press('Pause all');
  expect(await text()).toContain('The database is away.');
});

test('only what was paused together is taken up together; who may not change knots is not offered it', async () => {
  const paused = [knot('a', { state: 'paused', pausedTogether: true }), knot('c', {}, 0)];
  const { press, api, told, buttons } = await shown(paused);
  expect(await buttons()).not.toContain('Pause all');
  await press('Take all up again');
  expect(api.setAllStates).toHaveBeenCalledWith('running');
  expect(told).toEqual(['2 knots taken up again.']);
  TestBed.resetTestingModule();
  expect(await (await shown(paused, 'viewer')).buttons()).toEqual([]);
});

test('all are run together in the order in which they refer to each other, and it is said which', async () => {
  const { press, told, startTogether } = await shown([knot('a', {}), knot('b', {})]);
  await press('Run all');
  expect(startTogether).toHaveBeenCalledTimes(1);
  expect(told).toEqual(['2 runs started: b, then a.']);
  expect(TestBed.inject(Router).url).toBe('/runs');
});

test('one knot alone is run where it is shown, and who only looks starts none', async () => {
  expect(await (await shown([knot('a', {}), knot('b', { state: 'paused' })])).buttons()).not.toContain('Run all');
  TestBed.resetTestingModule();
  expect(await (await shown([knot('a', {}), knot('b', {})], 'viewer')).buttons()).not.toContain('Run all');
});
