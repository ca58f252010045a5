/** Up to when the changes of members are known, and when a knot is late. */
import { compileKnot, type Knot, type Timing } from '@anchor-knot/core';
import { demoKnot } from '../testing/realInstallation.js';
import { freshnessOf, latestMember } from './freshness.js';

const minute = 60_000;
const now = 1_000 * minute;
const timing: Timing = {
  zone: 'UTC',
  lateAfterMinutes: 10,
  triggers: { crm: { kind: 'events', otherwiseSeconds: 60 }, shop: { kind: 'asking', seconds: 60 } },
};
const knot: Knot = demoKnot;
const [crm, shop] = knot.members;
const readAt = (minutesAgo: number) => ({ readAt: now - minutesAgo * minute });
const told = (minutesAgo: number) => ({
  system: crm?.system ?? '',
  object: crm?.object ?? '',
  lastAt: new Date(now - minutesAgo * minute),
});
const known = (cursors: [string, { readAt: number; toldReadAt?: number }][], hearings: ReturnType<typeof told>[]) =>
  Object.fromEntries(
    freshnessOf(knot, timing, new Map(cursors), hearings, now).map(({ member, knownAt }) => [
      member,
      knownAt === undefined ? undefined : (now - knownAt) / minute,
    ]),
  );

test('who tells is known up to now, as long as what it told last was read; others as far as they were read', () => {
  expect(compileKnot(knot).ok).toBe(true);
  const cursors: [string, { readAt: number; toldReadAt?: number }][] = [
    ['crm', readAt(30)],
    ['shop', readAt(5)],
  ];
  expect(known(cursors, [told(31)])).toEqual({ crm: 0, shop: 5 });
  expect(known(cursors, [told(29)])).toEqual({ crm: 30, shop: 5 });
  // What it told was read by its keys, though not all that may have changed.
  const byKeys: typeof cursors = [
    ['crm', { ...readAt(30), toldReadAt: now - 28 * minute }],
    ['shop', readAt(5)],
  ];
  expect(known(byKeys, [told(29)])).toEqual({ crm: 0, shop: 5 });
  expect(known(byKeys, [told(27)])).toEqual({ crm: 30, shop: 5 });
  expect(known(cursors, [])).toEqual({ crm: 30, shop: 5 });
  expect(known([['shop', readAt(5)]], [told(31)])).toEqual({ crm: undefined, shop: 5 });
  // One that is asked is known as far as it was asked, whatever it tells.
  expect(known(cursors, [{ ...told(31), system: shop?.system ?? '', object: shop?.object ?? '' }])['shop']).toBe(5);
});

test('a knot is late by the member that is furthest behind, when that is longer than it may be', () => {
  const late = (minutesAgo: number[], after: number | undefined) =>
    latestMember(
      { ...timing, lateAfterMinutes: after },
      minutesAgo.map((minutes, place) => ({ member: `m${place}`, knownAt: now - minutes * minute })),
      now,
    )?.member;
  expect(late([3, 12, 11], 10)).toBe('m1');
  expect(late([3, 10, 9], 10)).toBeUndefined();
  expect(late([3, 999], undefined)).toBeUndefined();
  expect(latestMember(timing, [{ member: 'm0', knownAt: undefined }], now)).toBeUndefined();
});
