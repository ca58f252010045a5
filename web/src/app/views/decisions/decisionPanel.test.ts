/** One decision: what can be chosen by button and by key, by whom, and where what it is about is put right. */
import { jest } from '@jest/globals';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { provideRouter } from '@angular/router';
import type { Decision, DecidedMany, DecisionKind, Problem } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { DecisionsApi } from '../../api/decisionsApi';
import { LiveEvents } from '../../api/liveEvents';
import { SessionService } from '../../api/session';
import { Telling } from '../../telling/telling';
import { memberNamed } from '../../testing/fakeEditor';
import { refused } from '../../testing/stubs';
import { StartRun } from '../runs/startRun';
import { DecisionPanel } from './decisionPanel';

const members = [memberNamed('crm'), { ...memberNamed('shop'), recordPage: 'https://shop.example/{key}' }];
function decision(kind: DecisionKind, more: object = {}): Decision {
  return {
    id: '7',
    knot: 'customers',
    knotName: 'Customers',
    kind,
    anchor: null,
    title: null,
    member: 'shop',
    key: null,
    field: null,
    fieldName: null,
    says: `It is ${kind}.`,
    fingerprint: 'as seen',
    openedAt: '2026-11-23T10:00:00Z',
    subject: 'Market Row',
    writes: [],
    fullest: null,
    putOffUntil: null,
    givenTo: null,
    note: '',
    alike: 0,
    detail: {},
    ...more,
  } as Decision;
}

function shown(one: Decision, { may = true } = {}) {
  const api = {
    decide: jest.fn((..._: unknown[]) => of({ decided: true as const })),
    tryAlikeAgain: jest.fn((_: Decision) => of<DecidedMany>({ done: ['7', '8'], not: [] })),
    undoMany: jest.fn((_: unknown) => of<DecidedMany>({ done: ['7', '8'], not: [] })),
  };
  const told: string[] = [];
  const runs = { start: jest.fn() };
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: DecisionsApi, useValue: api },
      { provide: LiveEvents, useValue: { decided: { next: () => undefined } } },
      { provide: SessionService, useValue: { may: () => may, person: signal(undefined) } },
      { provide: StartRun, useValue: runs },
      {
        provide: Telling,
        useValue: { say: (text: string) => told.push(text), offer: (text: string) => (told.push(text), of(undefined)) },
      },
    ],
  });
  const fixture = TestBed.createComponent(DecisionPanel);
  fixture.componentRef.setInput('decision', one);
  fixture.componentRef.setInput('members', members);
  const decided = jest.fn();
  fixture.componentInstance.decided.subscribe(decided);
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const buttons = async () => Promise.all((await loader.getAllHarnesses(MatButtonHarness)).map((one) => one.getText()));
  const press = async (text: RegExp) => (await loader.getHarness(MatButtonHarness.with({ text }))).click();
  const key = (name: string) => document.dispatchEvent(new KeyboardEvent('keydown', { key: name, bubbles: true }));
  const host = fixture.nativeElement as HTMLElement;
  const links = () => Array.from(host.querySelectorAll('a'), (a) => a.getAttribute('href'));
  return { fixture, api, told, runs, decided, buttons, press, key, host, links };
}

test('a refused write is tried again by its key, all like it by another, and that can be taken back', async () => {
  const one = decision('refused', { alike: 2 });
  const { api, told, buttons, press, key, decided } = shown(one);
  expect(await buttons()).toEqual(['1 try again with the next run', '2 try all 2 again that were refused so']);
  key('1');
  expect(api.decide).toHaveBeenCalledWith('customers', '7', { choose: 'try again', fingerprint: 'as seen' });
  expect(api.tryAlikeAgain).not.toHaveBeenCalled();
  await press(/all 2/);
  expect(api.tryAlikeAgain).toHaveBeenCalledWith(one);
  expect(decided).toHaveBeenCalledTimes(2);
  expect(told.at(-1)).toBe('2 decisions taken. The next run acts on them.');
  expect(api.undoMany).toHaveBeenLastCalledWith([
    { knot: 'customers', decision: '7' },
    { knot: 'customers', decision: '8' },
  ]);
});

test.each<[DecisionKind, object, readonly string[]]>([
  ['trouble', { code: 'unreachable', advice: '' }, ['/systems/shop']],
  ['unusable', { file: 'a.csv', line: 3 }, ['/systems/shop/objects/things/records']],
  ['fields changed', { changes: [] }, ['/systems/shop/objects/things/history', '/knots/customers/fields']],
  ['unusually quiet', { usual: 240, since: '2026-11-29T13:00:00Z' }, ['/systems/shop', '/knots/customers/timing']],
])('%s leads to where it is put right', async (kind, detail, expected) => {
  const { buttons, links, key, api } = shown(decision(kind, { detail, key: 'a.csv: 3' }));
  expect(await buttons()).toEqual(kind === 'trouble' ? [] : ['1 seen']);
  expect(links()).toEqual(expected);
  key('1');
  expect(api.decide).toHaveBeenCalledTimes(kind === 'trouble' ? 0 : 1);
});

test('a record leads to its page in its system', async () => {
  const { buttons, links } = shown(decision('cannot be created', { key: 'S 9' }));
  await buttons();
  expect(links()).toEqual(['https://shop.example/S%209']);
});

test('who may only look is told so, and no key decides', async () => {
  const { buttons, key, api, host } = shown(decision('refused', { alike: 5 }), { may: false });
  expect(await buttons()).toEqual([]);
  expect(host.textContent).toContain('Your role may look, not decide.');
  key('1');
  expect(api.decide).not.toHaveBeenCalled();
});

test('what changed meanwhile is said, and looked at again; a guard starts a run', async () => {
  const { api, press, decided, fixture, host } = shown(decision('refused'));
  const problem: Problem = { code: 'changed meanwhile', says: 'The values have changed.' };
  api.decide.mockReturnValueOnce(refused(409, problem) as never);
  await press(/try again/);
  await fixture.whenStable();
  expect(decided).toHaveBeenCalledTimes(1);
  expect(host.querySelector('[role=alert]')?.textContent).toContain('The values have changed.');
  TestBed.resetTestingModule();
  const guard = shown(decision('guard'));
  await guard.press(/over the guards/);
  expect(guard.runs.start).toHaveBeenCalledWith('customers', 'run', { overGuards: true });
  expect(guard.api.decide).not.toHaveBeenCalled();
});
