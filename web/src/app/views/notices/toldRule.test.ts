/** Who is told of what, set by hand: said in one sentence, and what is wrong is said where it is. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter, Router } from '@angular/router';
import type { NoticeRule } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { DecisionsApi } from '../../api/decisionsApi';
import { KnotsApi } from '../../api/knotsApi';
import { NoticesApi } from '../../api/noticesApi';
import { eventually } from '../../testing/eventually';
import { hands } from '../../testing/hands';
import { refused, signedInAs, telling } from '../../testing/stubs';
import { newRule, ruleForm, ruleOf } from './ruleForm';
import { ruleSentence } from './ruleWords';
import { ToldRule } from './toldRule';

const id = '0193a0de-7a11-7c00-8000-000000000001';
const rule: NoticeRule = {
  ...newRule,
  name: 'Night watch',
  topics: ['run failed', 'decision', 'waits long'],
  decisionKinds: ['held'],
  waitsHours: 36,
  knots: ['customers'],
  recipients: [
    { kind: 'mail', address: 'halima@x.example' },
    { kind: 'webhook', address: 'https://x.example/told' },
  ],
  rhythm: { kind: 'daily', at: '06:45' },
  zone: 'Europe/London',
};

async function shown(which: string, role: 'administrator' | 'operator' = 'administrator') {
  const keepRule = jest.fn((_: string, __: NoticeRule, ___: number) =>
    of({ revision: 5, secret: null as string | null }),
  );
  const api = {
    rules: () =>
      of({
        rules: [{ id, rule, revision: 4, changedBy: 'Ottilie', changedAt: '2026-11-29T08:00:00Z', dueAt: null }],
        noMail: null,
      }),
    keepRule,
    testRule: jest.fn(() => of(null)),
    removeRule: jest.fn(() => of(null)),
  };
  const { told, provider } = telling();
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: NoticesApi, useValue: api },
      { provide: KnotsApi, useValue: { knots: () => of([{ id: 'customers', name: 'Customers' }]) } },
      { provide: DecisionsApi, useValue: { colleagues: () => of([{ email: 'bram@x.example', name: 'Bram' }]) } },
      signedInAs(role),
      provider,
    ],
  });
  const fixture = TestBed.createComponent(ToldRule);
  fixture.componentRef.setInput('rule', which);
  await fixture.whenStable();
  return { ...hands(fixture), api, told };
}
beforeEach(() => sessionStorage.clear());

test('what was kept comes out of the form as it went in, and is one sentence', () => {
  expect(ruleOf(ruleForm(rule))).toEqual(rule);
  expect(ruleSentence(rule, new Map([['customers', 'Customers']]))).toBe(
    'halima@x.example and 1 more are told each day at 06:45 (Europe/London) of runs that fail, decisions that wait ' +
      'for a person and decisions that have waited for more than 36 h, in Customers.',
  );
});

test('what is missing or wrong is said beside its field, and nothing is sent before it is right', async () => {
  const { type, press, text, tick, choose, api } = await shown('new');
  expect(await text()).toContain('Something is still missing.');
  await press('Save');
  expect(await text()).toContain('It needs a name');
  expect(await type('Name', ' ')).toContain('It needs a name');
  expect(await type('Address of recipient 1', 'bram')).toBe('An address such as name@company.example.');
  await choose('How recipient 1 is told', 'a program');
  expect(await type('Address of recipient 1', 'ftp://x.example')).toContain('begins with https://');
  expect(await type('Time zone', 'Europe/Fenland')).toBe('There is no such zone.');
  expect(await type('At most so many an hour', '0')).toBe('From 1 to 1000.');
  await press('Save');
  expect(api.keepRule).not.toHaveBeenCalled();
  await type('Name', 'Night watch');
  await type('Time zone', 'Europe/London');
  await type('At most so many an hour', '3');
  await choose('How recipient 1 is told', 'by mail');
  await type('Address of recipient 1', 'bram@x.example');
  await tick('decisions that have waited for long');
  await type('Waits for more than, h', '12');
  await press('One more');
  await type('Address of recipient 2', 'wren@x.example');
  await choose('When', 'gathered, once a day');
  await type('At', '06:15');
  expect(await text()).toContain(
    'bram@x.example and 1 more are told each day at 06:15 (Europe/London) of runs that fail',
  );
  const go = jest.spyOn(TestBed.inject(Router), 'navigate').mockResolvedValue(true);
  await press('Save');
  const [made, kept, seen] = api.keepRule.mock.lastCall ?? [];
  expect([seen, kept?.waitsHours, kept?.rhythm]).toEqual([0, 12, { kind: 'daily', at: '06:15' }]);
  expect(kept?.recipients.map(({ address }) => address)).toEqual(['bram@x.example', 'wren@x.example']);
  expect(go).toHaveBeenCalledWith(['/notices', 'told', made], { replaceUrl: true });
});

test('a change goes with the revision that was seen; a refusal keeps what was typed, the secret is shown', async () => {
  const { type, press, text, api, typed } = await shown(id);
  await type('Name', 'Night and day');
  api.keepRule.mockReturnValueOnce(refused(409, { code: 'changed meanwhile', says: 'Somebody changed it.' }) as never);
  await press('Save');
  expect(await text()).toContain('Somebody changed it.');
  await eventually(() => expect(JSON.stringify({ ...sessionStorage })).toContain('Night and day'));
  expect(await typed('Name')).toBe('Night and day');
  api.keepRule.mockReturnValueOnce(of({ revision: 5, secret: 'whsec_once' }));
  await press('Save');
  expect(api.keepRule).toHaveBeenLastCalledWith(id, { ...rule, name: 'Night and day' }, 4);
  expect(await text()).toContain('whsec_once');
  await press('Send a test');
  expect(api.testRule).toHaveBeenCalledWith(id);
  jest.spyOn(TestBed.inject(Router), 'navigateByUrl').mockResolvedValue(true);
  await press('Remove it');
  expect(api.removeRule).toHaveBeenCalledWith(id);
});

test('who may not change it reads it; one that was removed says so', async () => {
  const { buttons, text } = await shown(id, 'operator');
  expect(await buttons()).toEqual([]);
  expect(await text()).toContain('halima@x.example and 1 more are told each day');
  TestBed.resetTestingModule();
  expect(await (await shown('0193a0de-7a11-7c00-8000-00000000000f')).text()).toContain('not there any more');
});
