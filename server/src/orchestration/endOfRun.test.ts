/** What counts as read when a run has ended, and what of it is tried again. */
import type { MemberTrouble } from './runResult.js';
import { whatWasRead, worthAnotherTry } from './endOfRun.js';

const trouble = (member: string, code: string): [string, MemberTrouble] => [
  member,
  { member, code, words: '', advice: '' },
];
const reading = (more: object = {}) => ({ trouble: undefined, isNamed: false, isWhole: false, ...more });
const readings = new Map([
  ['crm', reading()],
  ['shop', reading({ isNamed: true })],
  ['list', reading({ isWhole: true })],
  ['erp', reading({ trouble: trouble('erp', 'unreachable')[1] })],
]);
const tally = { of: () => ({ read: 7 }) } as never;

test('what was read well counts, by name or as a whole, and what had changed is counted; what failed is not', () => {
  expect(whatWasRead('succeeded in part', readings, new Set(), tally)).toEqual({
    readWell: ['crm', 'list'],
    readByName: ['shop'],
    changed: new Map([
      ['crm', 7],
      ['shop', 7],
    ]),
  });
});

test('what was not settled is read again: of a run that was stopped, and of members that raced', () => {
  const nothing = { readWell: [], readByName: [], changed: new Map() };
  for (const state of ['stopped', 'stopped by a guard', 'stopped by a check'] as const)
    expect(whatWasRead(state, readings, new Set(), tally)).toEqual(nothing);
  expect(whatWasRead('succeeded', readings, new Set(['crm', 'shop', 'list']), tally)).toEqual(nothing);
});

test('what may pass is tried again; what a system refuses, or cannot be understood, is for a person', () => {
  const troubles = new Map([
    trouble('crm', 'unreachable'),
    trouble('shop', 'too many calls'),
    trouble('erp', 'server error'),
    trouble('desk', 'sign-in refused'),
    trouble('list', 'answer not understood'),
  ]);
  expect(worthAnotherTry(troubles, new Set(['desk', 'boards']))).toEqual(['crm', 'shop', 'erp', 'boards']);
});
