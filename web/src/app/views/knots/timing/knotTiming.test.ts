/** When a knot runs by itself, set by hand: what is shown is what is kept, and what is wrong is said where it is. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import type { KeepTiming, TimingView } from '@anchor-knot/contracts';
import type { Timing } from '@anchor-knot/core';
import { type Observable, of } from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import { SessionService } from '../../../api/session';
import { eventually } from '../../../testing/eventually';
import { memberNamed } from '../../../testing/fakeEditor';
import { hands } from '../../../testing/hands';
import { refused, telling } from '../../../testing/stubs';
import { StartRun } from '../../runs/startRun';
import { KnotTiming } from './knotTiming';
import { timingForm, timingOf } from './timingForm';
import { timingSentence } from './timingWords';

const member = (id: string, more: Partial<TimingView['members'][number]> = {}): TimingView['members'][number] => ({
  ...memberNamed(id),
  tells: true,
  saysChanges: true,
  isLookedAt: false,
  subscription: null,
  readAt: null,
  ...more,
});
const members = [member('crm'), member('shop', { tells: false, saysChanges: false })];
const byHand: Timing = { zone: 'Europe/London', triggers: {} };
const full: Timing = {
  zone: 'America/New_York',
  firstDay: '2026-11-30',
  lastDay: '2027-02-28',
  regular: { kind: 'every', every: 20, unit: 'minutes', between: ['07:00', '19:00'] },
  complete: { kind: 'days', on: { kind: 'of the month', days: [1, 'last'] }, at: ['02:00', '14:30'] },
  triggers: { crm: { kind: 'events', otherwiseSeconds: 300 }, shop: { kind: 'asking', seconds: 60 } },
};

const kept = {
  revision: 3,
  changedBy: 'Halima',
  changedAt: '2026-11-29T08:00:00Z',
  hasRun: false,
  others: [{ id: 'orders', name: 'Orders' }],
};

async function shown(timing: Timing, role: 'editor' | 'operator' | 'viewer' = 'editor') {
  const api = {
    timing: jest.fn((_: string): Observable<TimingView> => of({ ...kept, timing, members })),
    keepTiming: jest.fn((_: string, __: KeepTiming): Observable<number> => of(4)),
  };
  const { told, provider } = telling();
  const start = jest.fn();
  TestBed.configureTestingModule({
    providers: [
      { provide: KnotsApi, useValue: api },
      { provide: SessionService, useValue: { may: (wanted: string) => wanted === role } },
      { provide: StartRun, useValue: { start } },
      provider,
    ],
  });
  const fixture = TestBed.createComponent(KnotTiming);
  fixture.componentRef.setInput('knot', 'customers');
  await fixture.whenStable();
  return { ...hands(fixture), api, told, start };
}

beforeEach(() => sessionStorage.clear());
const allButDate = [
  'nextTick',
  'setImmediate',
  'clearImmediate',
  'setTimeout',
  'clearTimeout',
  'setInterval',
  'clearInterval',
  'queueMicrotask',
  'requestAnimationFrame',
  'cancelAnimationFrame',
  'requestIdleCallback',
  'cancelIdleCallback',
  'hrtime',
  'performance',
] as const;

test.each<Timing>([
  byHand,
  full,
  { ...byHand, regular: { kind: 'cron', expression: '0 6 * * 1-5' } },
  { ...byHand, regular: { kind: 'days', on: { kind: 'of the week', days: [2, 5] }, at: ['06:00'] } },
  { ...byHand, regular: { kind: 'every', every: 1, unit: 'hours' } },
  { ...byHand, quiet: { between: ['21:30', '05:00'] }, after: ['orders'], callShare: 40, rank: 'last' },
  { ...byHand, quiet: { between: ['00:00', '00:00'], days: [6, 7] } },
])('what was kept comes out of the form as it went in (%#)', (timing) => {
  expect(timingOf(timingForm(timing, ['crm', 'shop']))).toEqual(timing);
});

test('a timing is one sentence', () => {
  expect(timingSentence(byHand, members)).toBe('Runs by hand only.');
  expect(timingSentence(full, members)).toBe(
    `Runs as soon as ${members[0]?.systemName} tells of a change, asks ${members[1]?.systemName} every minute, ` +
      'asks all members every 20 minutes from 07:00 to 19:00 and lists everything on the 1. and last day of ' +
      'the month at 02:00 and 14:30.',
  );
});

afterEach(() => jest.useRealTimers());

test('it is set by hand, said and shown with its next times, and kept with the revision that was seen', async () => {
  // A Tuesday before dawn, so that nothing is listed completely among the next ten times.
  jest.useFakeTimers({ now: Date.UTC(2026, 10, 24, 3), doNotFake: [...allButDate] });
  const { choose, tick, type, text, press, api, told } = await shown(byHand);
  expect(await text()).toContain('Nothing runs by itself yet.');
  await choose('What changed is asked for', 'every so many minutes or hours');
  await type('Every', '30');
  await tick(/List all records/);
  await choose('Days', 'of the week');
  await type('Times of the day', '02:00; 13:15');
  expect(await text()).toContain(
    'Asks all members every 30 minutes and lists everything on Monday, Tuesday, Wednesday, Thursday and Friday',
  );
  expect((await text()).match(/what changed/g)).toHaveLength(10);
  await press('Save the timing');
  expect(api.keepTiming).toHaveBeenCalledWith('customers', {
    revision: 3,
    timing: {
      ...byHand,
      regular: { kind: 'every', every: 30, unit: 'minutes' },
      complete: { kind: 'days', on: { kind: 'of the week', days: [1, 2, 3, 4, 5] }, at: ['02:00', '13:15'] },
    },
  });
  expect(told).toEqual(['The timing is kept, and holds from now on.']);
});

test('what is wrong is said beside its field, and nothing is sent before it is right', async () => {
  const { choose, type, press, text, api } = await shown(byHand);
  expect(await type('Time zone', 'Europe/Fenland')).toBe('there is no time zone “Europe/Fenland”');
  expect(await text()).toContain('Something is still wrong with what is set.');
  await type('Time zone', 'Europe/London');
  await choose('What changed is asked for', 'by a cron expression');
  const expression = 'Expression: minute hour day month weekday';
  expect(await type(expression, '0 0 31 2 *')).toBe('it never comes');
  expect(await type(expression, '61 * * * *')).toContain('this is no cron expression');
  await choose('What changed is asked for', 'every so many minutes or hours');
  expect(await type('Only from', '25:00')).toContain('no time of the day');
  await choose('What changed is asked for', 'never');
  await choose('How changes of ' + (members[1]?.systemName ?? '') + ' are noticed', 'by asking it');
  expect(await type('Every, s', '1')).toBe('give whole seconds from 5 to 86,400');
  await press('Save the timing');
  expect(api.keepTiming).not.toHaveBeenCalled();
  expect(await type('Every, s', '30')).toBe('');
  await press('Save the timing');
  expect(api.keepTiming.mock.lastCall?.[1].timing.triggers).toEqual({ shop: { kind: 'asking', seconds: 30 } });
});

test('quiet hours, knots that come first and a share of calls are set by hand, wrong ones refused', async () => {
  const { choose, tick, type, press, text, api } = await shown(byHand);
  await choose('What changed is asked for', 'every so many minutes or hours');
  await tick(/Nothing starts by itself/);
  expect(await type('Quiet from', '22')).toContain('no time of the day');
  await type('Quiet from', '06:00');
  expect(await type('Quiet from', '06:00')).toBe('these hours never end: nothing would ever run');
  await type('Quiet from', '20:15');
  const share = 'Its share of each system’s calls a day, %';
  expect(await type(share, '0')).toBe('give whole percent from 1 to 100, or nothing');
  await type(share, '25');
  await choose('It waits for runs of', 'Orders');
  await choose('Its runs begin', 'before those of other knots');
  expect(await text()).toContain('Asks all members every 15 minutes; not from 20:15 to 06:00.');
  await press('Save the timing');
  expect(api.keepTiming.mock.lastCall?.[1].timing).toMatchObject({
    quiet: { between: ['20:15', '06:00'] },
    after: ['orders'],
    callShare: 25,
    rank: 'first',
  });
});

test('what was set is here again after a refusal and a reload, until it is left as it was', async () => {
  const { choose, type, press, text, api } = await shown(byHand);
  await choose('What changed is asked for', 'every so many minutes or hours');
  await type('Every', '45');
  api.keepTiming.mockReturnValueOnce(
    refused(409, { code: 'changed meanwhile', says: 'Somebody changed it.' }) as never,
  );
  await press('Save the timing');
  expect(await text()).toContain('Somebody changed it.');
  await eventually(() => expect(JSON.stringify({ ...sessionStorage })).toContain('45'));
  TestBed.resetTestingModule();
  const again = await shown(byHand);
  expect(await again.typed('Every')).toBe('45');
  await again.press('Leave it as it was');
  expect(await again.chosen('What changed is asked for')).toBe('never');
});

test('a viewer sees it, and can change nothing', async () => {
  const { text, buttons } = await shown(full, 'viewer');
  expect(await text()).toContain('lists everything on the 1. and last day of the month');
  expect(await buttons()).not.toContain('Save the timing');
});

test('a member is read anew by hand', async () => {
  const { loader, start } = await shown(byHand, 'operator');
  const [, second] = await loader.getAllHarnesses(MatButtonHarness.with({ text: 'Read it anew' }));
  await second?.click();
  expect(start).toHaveBeenCalledWith('customers', 'run', { full: true, members: ['shop'] });
});
