/** Is everything telling the same story, and what needs me: in words, with where to go. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { Watch } from '@anchor-knot/contracts';
import { NEVER, of } from 'rxjs';
import { LiveEvents } from '../../api/liveEvents';
import { RunsApi } from '../../api/runsApi';
import { memberNamed } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { refused, signedInAs } from '../../testing/stubs';
import { NoChart } from '../../testing/plainParts';
import { StartRun } from '../runs/startRun';
import { WatchView } from './watchView';
import { WrittenChart } from './writtenChart';

const member = (id: string, more: object = {}) => ({
  ...memberNamed(id),
  ties: 100,
  waiting: 0,
  trouble: false,
  ...more,
});
const system = (id: string, more: object = {}) => ({
  id,
  name: memberNamed(id).systemName,
  kind: 'JSON over HTTP',
  address: '',
  page: null,
  environment: 'production',
  pennant: memberNamed(id).pennant,
  objects: [],
  pages: {},
  trouble: null,
  checkedAt: '2026-11-23T10:00:00Z',
  usedIn: [{ knot: 'customers', name: 'Customers' }],
  ...more,
});
const knot = (more: object = {}) => ({
  id: 'customers',
  name: 'Customers',
  thing: 'customer',
  state: 'running',
  anchors: 467,
  agree: 467,
  members: [member('crm'), member('shop')],
  lastRun: null,
  openRun: null,
  ...more,
});
const watched = (more: object = {}): Watch =>
  ({
    knots: [knot()],
    systems: [system('crm'), system('shop')],
    waiting: [],
    written: [],
    days: [],
    lastRuns: [],
    ...more,
  }) as never;

async function shown(watch: Watch | undefined, role: 'operator' | 'viewer' = 'operator') {
  const start = jest.fn();
  const answer = watch === undefined ? refused(500, { code: 'x', says: 'The database does not answer.' }) : of(watch);
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: RunsApi, useValue: { watch: () => answer } },
      { provide: LiveEvents, useValue: { anything: NEVER } },
      { provide: StartRun, useValue: { start } },
      signedInAs(role),
    ],
  });
  TestBed.overrideComponent(WatchView, { remove: { imports: [WrittenChart] }, add: { imports: [NoChart] } });
  const fixture = TestBed.createComponent(WatchView);
  await fixture.whenStable();
  return { ...hands(fixture), start };
}

test.each<[object, string]>([
  [{ anchors: 0, agree: 0 }, 'No customers are tied yet'],
  [{}, 'All 467 customers agree everywhere'],
  [{ anchors: 4670, agree: 4502 }, '4,502 of 4,670 customers agree everywhere'],
])('the headline says how much agrees: %j', async (more, headline) => {
  expect(await (await shown(watched({ knots: [knot(more)] }))).text()).toContain(headline);
});

test('of several knots all things are counted together; of none it is said what will be here', async () => {
  const two = await shown(
    watched({ knots: [knot(), knot({ id: 'partners', name: 'Partners', anchors: 33, agree: 30 })] }),
  );
  expect(await two.text()).toContain('497 of 500 things agree everywhere');
  TestBed.resetTestingModule();
  const none = await shown(watched({ knots: [], systems: [] }));
  expect(await none.text()).toContain('Nothing is connected yet.');
});

test('each member says whether it is well, waits or is in trouble, and the trouble is told in words', async () => {
  const { text, rows } = await shown(
    watched({
      knots: [knot({ members: [member('crm', { waiting: 1 }), member('shop', { trouble: true, waiting: 3 })] })],
      systems: [
        system('crm'),
        system('shop', {
          trouble: { code: 'sign-in refused', words: 'The secret is wrong.', advice: 'Give another.' },
        }),
      ],
    }),
  );
  expect((await rows())[0]).toMatch(/100 tied in Fernhill CRM ?1 waits for you.*100 tied in Market Row ?in trouble/);
  expect(await text()).toContain('in trouble: sign-in refused');
  expect(await text()).toContain('Market Row is in troubleThe secret is wrong. Give another.');
});

test('what was written is shown for the last day, or for thirty with what was not taken', async () => {
  const written = [{ hour: '2026-11-23T10:00:00Z', values: 12 }];
  const day = { day: '2026-11-23', runs: 30, troubled: 2, written: 1200, failed: 7 };
  const { text, toggle } = await shown(watched({ written, days: [{ ...day, runs: 10, troubled: 0, failed: 0 }, day] }));
  expect(await text()).toContain('Written in the last 24 hours 12 values');
  await toggle('30 days');
  expect(await text()).toContain('2,400 records, 7 not taken · 40 runs, 2 of them not wholly well');
});

test('what waits is counted, with an example, and leads to its kind', async () => {
  const waiting = [
    { knot: 'customers', kind: 'held', count: 3, example: 'Phone of Reed', since: '2026-11-23T10:00:00Z' },
    { knot: 'customers', kind: 'trouble', count: 1, example: 'Market Row', since: '2026-11-23T10:00:00Z' },
  ];
  const { text, links } = await shown(watched({ waiting }));
  expect(await text()).toContain('Waits for you · 4');
  expect(await text()).toContain('3 held fields');
  expect(await text()).toContain('1 system in trouble');
  expect(await links()).toContain('/decisions?kind=trouble');
});

test('an operator runs a knot that is not paused; who may only look has nothing to press', async () => {
  const { press, start } = await shown(watched());
  await press('Dry run');
  await press('Run now');
  expect(start.mock.calls).toEqual([
    ['customers', 'dry run'],
    ['customers', 'run'],
  ]);
  TestBed.resetTestingModule();
  const paused = await shown(watched({ knots: [knot({ state: 'paused' })] }));
  await paused.press('Run now').catch(() => undefined);
  expect(paused.start).not.toHaveBeenCalled();
  TestBed.resetTestingModule();
  expect(await (await shown(watched(), 'viewer')).buttons()).toEqual([]);
});

test('what went wrong is said in the place of what could not be read', async () => {
  expect(await (await shown(undefined)).text()).toContain('The database does not answer.');
});

test('what goes by itself is told apart from what waits for a person, and counts for nobody', async () => {
  const waiting = [
    { knot: 'orders', kind: 'waiting', count: 78, example: 'Customer waits.', since: '2026-11-23T10:00:00Z' },
    {
      knot: 'customers',
      kind: 'held',
      count: 2,
      example: 'Phone was given differently.',
      since: '2026-11-23T10:00:00Z',
    },
  ];
  const both = (await (await shown(watched({ waiting }))).text()).replaceAll(/\s+/g, ' ');
  expect(both).toContain('Waits for you · 2');
  expect(both).toMatch(/2 held fields.*Goes by itself.*78 references that wait/);
  TestBed.resetTestingModule();
  expect(await (await shown(watched({ waiting: waiting.slice(1) }))).text()).not.toContain('Goes by itself');
});
