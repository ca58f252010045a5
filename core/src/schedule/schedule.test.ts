/** When something is due: against what the clocks of six zones show, and however time is cut into pieces. */
import fc from 'fast-check';
import { DateTime } from 'luxon';
import { nextSlots, passedSlots } from './due.js';
import { problemsOfTiming } from './problems.js';
import { quietUntil } from './quiet.js';
import { slotsAfter } from './slots.js';
import type { QuietHours, Schedule, Timing } from './timing.js';

const zones = [
  'Europe/London',
  'America/New_York',
  // Clocks are put forward by half an hour.
  'Australia/Lord_Howe',
  // A whole day was left out at the end of 2011, and midnight was skipped before.
  'Pacific/Apia',
  // Clocks go forward at midnight.
  'America/Santiago',
  'Asia/Kathmandu',
];
const at = (text: string) => Date.parse(text);
const between = (schedule: Schedule, timing: Omit<Timing, 'triggers'>, after: number, until: number): number[] => {
  const slots: number[] = [];
  for (const slot of slotsAfter(schedule, timing, after)) {
    if (slot > until) break;
    slots.push(slot);
  }
  return slots;
};
/** What a clock on the wall shows, by the zone tables that come with the engine of the language (ICU), not by ours. */
function clockOf(zone: string): (instant: number) => string {
  const format = new Intl.DateTimeFormat('sv-SE', { timeZone: zone, dateStyle: 'short', timeStyle: 'short' });
  return (instant) => format.format(instant);
}

const time = fc
  .record({ hour: fc.nat(23), minute: fc.nat(59) })
  .map(({ hour, minute }) => `${String(hour).padStart(2, '0')}:${String(minute).padStart(2, '0')}`);
const times = fc.uniqueArray(time, { minLength: 1, maxLength: 4 });
const schedules: fc.Arbitrary<Schedule> = fc.oneof(
  fc.record({
    kind: fc.constant('every' as const),
    every: fc.integer({ min: 1, max: 90 }),
    unit: fc.constantFrom('minutes' as const, 'hours' as const),
    between: fc.option(fc.tuple(time, time), { nil: undefined }),
  }),
  fc.record({
    kind: fc.constant('days' as const),
    on: fc.oneof(
      fc.record({ kind: fc.constant('every' as const), days: fc.integer({ min: 1, max: 9 }) }),
      fc.record({
        kind: fc.constant('of the week' as const),
        days: fc.uniqueArray(fc.integer({ min: 1, max: 7 }), { minLength: 1 }),
      }),
      fc.record({
        kind: fc.constant('of the month' as const),
        days: fc.uniqueArray(fc.oneof(fc.integer({ min: 1, max: 31 }), fc.constant('last' as const)), { minLength: 1 }),
      }),
    ),
    at: times,
  }),
  fc.constantFrom('*/7 * * * *', '0 6 * * 1-5', '30 2 * * *', '15 1,2,3 L * *').map((expression) => ({
    kind: 'cron' as const,
    expression,
  })),
);
const moments = fc.integer({ min: at('2025-01-01T00:00:00Z'), max: at('2027-01-01T00:00:00Z') });

test('however time is cut into pieces, each slot is in one of them, and they come in order', () => {
  fc.assert(
    fc.property(schedules, fc.constantFrom(...zones), moments, fc.nat(9), fc.nat(9), (schedule, zone, from, x, y) => {
      const day = 86_400_000;
      const [middle, end] = [from + x * day * 0.37, from + (x + y) * day * 0.37];
      const whole = between(schedule, { zone }, from, end);
      expect([...between(schedule, { zone }, from, middle), ...between(schedule, { zone }, middle, end)]).toEqual(
        whole,
      );
      expect(whole.toSorted((one, other) => one - other)).toEqual([...new Set(whole)]);
      expect(whole.every((slot) => slot > from)).toBe(true);
    }),
    { numRuns: 60 },
  );
});

test.each(zones)('over two years, each day of %s has its times once, as a clock there shows them', (zone) => {
  const shows = clockOf(zone);
  const wanted = ['00:00', '00:30', '01:30', '02:00', '02:30', '12:00', '23:45'];
  const [from, until] = [at('2025-01-01T00:00:00Z'), at('2027-01-01T00:00:00Z')];
  const slots = between({ kind: 'days', on: { kind: 'every', days: 1 }, at: wanted }, { zone }, from, until);
  // Every quarter of an hour of the two years, and when a clock there first showed it.
  const firstShown = new Map<string, number>();
  for (let instant = from; instant <= until; instant += 900_000) {
    const shown = shows(instant);
    if (!firstShown.has(shown)) firstShown.set(shown, instant);
  }
  const days = new Set([...firstShown.keys()].map((shown) => shown.slice(0, 10)));
  const expected = [...days].flatMap((day) => wanted.flatMap((clock) => firstShown.get(`${day} ${clock}`) ?? []));
  const skipped = slots.filter((slot) => !wanted.includes(shows(slot).slice(11)));
  expect(slots.filter((slot) => !skipped.includes(slot))).toEqual(expected.filter((slot) => slot > from));
  // What no clock showed comes as much later as was skipped: at most two of our times lie in an hour.
  expect(skipped.length).toBeLessThanOrEqual(4);
});

test('a time that is skipped comes later, one that comes twice comes once, and so does a cron expression', () => {
  const zone = 'Europe/London';
  const nightly: Schedule = { kind: 'days', on: { kind: 'every', days: 1 }, at: ['01:30'] };
  const cron: Schedule = { kind: 'cron', expression: '30 1 * * *' };
  for (const schedule of [nightly, cron]) {
    expect(between(schedule, { zone }, at('2026-03-29T00:00:00Z'), at('2026-03-30T00:00:00Z'))).toEqual([
      at('2026-03-29T01:30:00Z'),
    ]);
    expect(between(schedule, { zone }, at('2026-10-24T23:00:00Z'), at('2026-10-25T22:00:00Z'))).toEqual([
      at('2026-10-25T00:30:00Z'),
    ]);
  }
});

test('minutes and hours are as far apart as they say, and hours of the day are the clock’s, whatever it does', () => {
  const zone = 'Europe/London';
  const [from, until] = [at('2026-10-24T20:00:00Z'), at('2026-10-26T08:00:00Z')];
  const apart = between({ kind: 'every', every: 20, unit: 'minutes' }, { zone }, from, until);
  expect(new Set(apart.slice(1).map((slot, index) => slot - (apart[index] ?? 0)))).toEqual(new Set([1_200_000]));
  const nights = between(
    { kind: 'every', every: 2, unit: 'hours', between: ['22:00', '02:00'] },
    { zone },
    from,
    until,
  );
  const shows = clockOf(zone);
  expect(nights.map((slot) => shows(slot).slice(8))).toEqual([
    '24 23:00',
    '25 01:00',
    '25 02:00',
    '25 22:00',
    '26 00:00',
    '26 02:00',
  ]);
});

test('days of a month that has no such day are left out in it; the last day is whichever it is', () => {
  const of = (days: readonly (number | 'last')[]): Schedule => ({
    kind: 'days',
    on: { kind: 'of the month', days },
    at: ['06:00'],
  });
  const daysIn = (schedule: Schedule) =>
    between(schedule, { zone: 'UTC' }, at('2027-12-31T12:00:00Z'), at('2028-05-01T00:00:00Z')).map((slot) =>
      DateTime.fromMillis(slot, { zone: 'utc' }).toFormat('LL-dd'),
    );
  expect(daysIn(of([31]))).toEqual(['01-31', '03-31']);
  expect(daysIn(of(['last']))).toEqual(['01-31', '02-29', '03-31', '04-30']);
  expect(daysIn(of([30, 'last']))).toEqual(['01-30', '01-31', '02-29', '03-30', '03-31', '04-30']);
});

test('nothing is due before the first day or after the last, and every so many days counts from the first', () => {
  const timing = { zone: 'America/New_York', firstDay: '2026-11-24', lastDay: '2026-12-01' };
  const slots = between(
    { kind: 'days', on: { kind: 'every', days: 3 }, at: ['00:00', '23:59'] },
    timing,
    at('2026-01-01T00:00:00Z'),
    at('2027-01-01T00:00:00Z'),
  );
  const shows = clockOf(timing.zone);
  expect(slots.map(shows)).toEqual([
    '2026-11-24 00:00',
    '2026-11-24 23:59',
    '2026-11-27 00:00',
    '2026-11-27 23:59',
    '2026-11-30 00:00',
    '2026-11-30 23:59',
  ]);
});

test('after a pause one run makes up for all that was missed, which is counted; what is just due is not missed', () => {
  const timing: Timing = { zone: 'UTC', triggers: {} };
  const hourly: Schedule = { kind: 'every', every: 1, unit: 'hours' };
  const slot = at('2026-11-23T06:00:00Z');
  expect(passedSlots(hourly, timing, slot, slot + 5000, 60_000)).toEqual({
    due: slot,
    missed: 0,
    missedSince: undefined,
    next: slot + 3_600_000,
  });
  expect(passedSlots(hourly, timing, slot, at('2026-11-23T09:00:30Z'), 60_000)).toEqual({
    due: at('2026-11-23T09:00:00Z'),
    missed: 3,
    missedSince: slot,
    next: at('2026-11-23T10:00:00Z'),
  });
  const ended = { ...timing, lastDay: '2026-11-23' };
  expect(passedSlots(hourly, ended, at('2026-11-23T23:00:00Z'), at('2026-11-24T12:00:00Z'), 60_000)).toMatchObject({
    due: at('2026-11-23T23:00:00Z'),
    missed: 1,
    next: undefined,
  });
});

test('the next slots of both kinds stand in one order', () => {
  const timing: Timing = {
    zone: 'UTC',
    regular: { kind: 'every', every: 12, unit: 'hours' },
    complete: { kind: 'days', on: { kind: 'of the week', days: [7] }, at: ['03:00'] },
    triggers: {},
  };
  expect(nextSlots(timing, at('2026-11-28T13:00:00Z'), 4)).toEqual([
    { at: at('2026-11-29T00:00:00Z'), purpose: 'changes' },
    { at: at('2026-11-29T03:00:00Z'), purpose: 'everything' },
    { at: at('2026-11-29T12:00:00Z'), purpose: 'changes' },
    { at: at('2026-11-30T00:00:00Z'), purpose: 'changes' },
  ]);
});

const quietHours: fc.Arbitrary<QuietHours> = fc.record({
  between: fc.tuple(time, time),
  days: fc.option(fc.uniqueArray(fc.integer({ min: 1, max: 7 }), { minLength: 1 }), { nil: undefined }),
});

test('quiet hours take out the slots that lie in them, and no others, also over changes of clocks', () => {
  let taken = 0;
  fc.assert(
    fc.property(schedules, quietHours, fc.constantFrom(...zones), (schedule, quiet, zone) => {
      const [from, until] = [at('2026-03-28T12:00Z'), at('2026-04-01T00:00Z')];
      const all = between(schedule, { zone }, from, until);
      const loud = all.filter((slot) => quietUntil({ zone, quiet }, slot) === undefined);
      taken += all.length - loud.length;
      expect(between(schedule, { zone, quiet }, from, until)).toEqual(loud);
    }),
    { numRuns: 30 },
  );
  expect(taken).toBeGreaterThan(100);
});

test('it is quiet while a clock there shows a time within, on the days on which it began, until it is over', () => {
  fc.assert(
    fc.property(quietHours, fc.constantFrom('Asia/Kathmandu', 'America/New_York'), (quiet, zone) => {
      const clock = clockOf(zone);
      const [begin, end] = quiet.between;
      const isBegun = (day: DateTime): boolean => quiet.days?.includes(day.weekday) ?? true;
      for (let minutes = 0; minutes < 9 * 24 * 60; minutes += 97) {
        const moment = at('2026-06-01T00:00Z') + minutes * 60_000;
        const [day = '', shown = ''] = clock(moment).split(' ');
        const today = DateTime.fromISO(day, { zone: 'utc' });
        const sinceToday = isBegun(today) && shown >= begin && (shown < end || end <= begin);
        const sinceYesterday = end <= begin && isBegun(today.minus({ days: 1 })) && shown < end;
        const over = quietUntil({ zone, quiet }, moment);
        expect([moment, over !== undefined]).toEqual([moment, sinceToday || sinceYesterday]);
        if (over === undefined || over === Infinity) continue;
        expect(clock(over).split(' ')[1]).toBe(end);
        expect(quietUntil({ zone, quiet }, over)).toBeUndefined();
      }
    }),
    { numRuns: 15 },
  );
});

test.each<[string, Partial<Timing>, string, RegExp]>([
  ['quiet hours without a time', { quiet: { between: ['22:00', '6'] } }, 'quiet.between', /“6” is no time/],
  ['quiet hours on no day', { quiet: { between: ['22:00', '06:00'], days: [] } }, 'quiet.days', /choose a day/],
  ['quiet hours without end', { quiet: { between: ['06:00', '06:00'] } }, 'quiet.between', /never end/],
  [
    'a time that lies in the quiet hours',
    {
      quiet: { between: ['22:00', '06:00'] },
      complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['02:00'] },
    },
    'complete',
    /it never comes/,
  ],
  ['a share of nothing', { callShare: 0 }, 'callShare', /whole percent/],
  ['a zone', { zone: 'Europe/Fenland' }, 'zone', /no time zone “Europe\/Fenland”/],
  ['an end before the beginning', { firstDay: '2026-12-02', lastDay: '2026-12-01' }, 'lastDay', /before the first/],
  ['a day that is none', { firstDay: '2026-02-30' }, 'firstDay', /no day/],
  ['an expression that never comes', { regular: { kind: 'cron', expression: '0 0 31 2 *' } }, 'regular', /never/],
  [
    'a day that never comes',
    { complete: { kind: 'days', on: { kind: 'of the month', days: [31] }, at: [] } },
    'complete.at',
    /a time/,
  ],
  ['no expression', { regular: { kind: 'cron', expression: '61 * * * *' } }, 'regular.expression', /no cron/],
  ['too few fields', { regular: { kind: 'cron', expression: '* *' } }, 'regular.expression', /five fields/],
  [
    'an end that is over',
    { lastDay: '2020-01-01', regular: { kind: 'every', every: 1, unit: 'hours' } },
    'regular',
    /never/,
  ],
  ['nothing apart', { regular: { kind: 'every', every: 0, unit: 'minutes' } }, 'regular.every', /from 1 on/],
  [
    'a time that is none',
    { regular: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['24:00'] } },
    'regular.at',
    /24:00/,
  ],
  [
    'no day',
    { regular: { kind: 'days', on: { kind: 'of the week', days: [] }, at: ['06:00'] } },
    'regular.on',
    /a day/,
  ],
])('%s is said where it is wrong', (_, part, where, says) => {
  const [problem] = problemsOfTiming({ zone: 'UTC', triggers: {}, ...part }, at('2026-11-29T00:00:00Z'));
  expect(problem?.where).toBe(where);
  expect(problem?.says).toMatch(says);
});
