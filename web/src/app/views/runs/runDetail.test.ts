/** A run as it goes on: what it says, how its records are filtered, and pages of which none is mixed with another's. */
import { jest } from '@jest/globals';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { MatProgressBarHarness } from '@angular/material/progress-bar/testing';
import { MatSelectHarness } from '@angular/material/select/testing';
import { provideRouter } from '@angular/router';
import type { MemberTally, PlannedOperation, Run } from '@anchor-knot/contracts';
import { of, Subject } from 'rxjs';
import { RunsApi } from '../../api/runsApi';
import { LiveEvents } from '../../api/liveEvents';
import { SessionService } from '../../api/session';
import { memberNamed } from '../../testing/fakeEditor';
import { eventually } from '../../testing/eventually';
import { RunDetail } from './runDetail';
import { StartRun } from './startRun';

const account = { tied: 0, waiting: 0, rejected: 0, aside: 0, untied: 0, filtered: 0 };
const none = { read: 0, create: 0, update: 0, archive: 0, delete: 0, leftAlone: 0, held: 0, rejected: 0, waiting: 0 };
const tally = (more: Partial<MemberTally>): MemberTally => ({
  ...none,
  written: 0,
  failed: 0,
  'write back': 0,
  accounts: account,
  ...more,
});
const runOf = (more: Partial<Run> = {}): Run => ({
  id: 'r1',
  knot: 'customers',
  knotVersion: 4,
  kind: 'run',
  startedBy: 'Vera Lindqvist',
  cause: 'person',
  startedAt: '2026-11-29T06:00:00.000Z',
  endedAt: '2026-11-29T06:01:00.000Z',
  state: 'succeeded',
  progress: { phase: 'done', done: 0, tally: { crm: tally({ read: 3, update: 2, written: 2 }) } },
  troubles: [],
  guards: [],
  words: null,
  ...more,
});
const operation = (id: string): PlannedOperation =>
  ({ id, anchor: `a${id}`, title: `Thing ${id}`, member: 'crm', key: id, kind: 'update', state: 'written' }) as never;
const page = (next: string | null, ...ids: string[]) => ({
  operations: ids.map((id) => ({ ...operation(id), words: null, changes: [] })),
  next,
  total: 9,
});

async function shown(run: Run, role: 'operator' | 'viewer' = 'operator') {
  const asked: Record<string, string>[] = [];
  const answers: Subject<unknown>[] = [];
  const changes = new Subject<Run>();
  const start = jest.fn();
  const api = {
    run: () => of({ run, members: [memberNamed('crm')], fields: [] }),
    operations: (_: string, query: Record<string, string>) => {
      asked.push(query);
      const answer = new Subject<unknown>();
      answers.push(answer);
      return answer;
    },
    stopRun: jest.fn(() => of({})),
  };
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: '**', children: [] }]),
      { provide: RunsApi, useValue: api },
      { provide: LiveEvents, useValue: { opened: new Subject(), changes } },
      { provide: SessionService, useValue: { may: (wanted: string) => wanted === role } },
      { provide: StartRun, useValue: { start } },
    ],
  });
  const fixture = TestBed.createComponent(RunDetail);
  fixture.componentRef.setInput('run', 'r1');
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const settle = () => fixture.whenStable();
  /** The answer to a question, once it is asked: what is chosen and typed is gathered for a moment. */
  const answer = async (index: number): Promise<Subject<unknown>> => {
    await eventually(() => expect(asked.length).toBeGreaterThan(index));
    return answers[index] as Subject<unknown>;
  };
  const text = () => (fixture.nativeElement as HTMLElement).textContent.replaceAll(/\s+/g, ' ');
  const titles = () => text().match(/Thing \d+/g) ?? [];
  const press = async (words: string) => (await loader.getHarness(MatButtonHarness.with({ text: words }))).click();
  const field = (floatingLabelText: string) => loader.getHarness(MatFormFieldHarness.with({ floatingLabelText }));
  await answer(0);
  return { api, asked, answer, answers, changes, start, loader, settle, text, titles, press, field, fixture };
}

test('records are filtered by what is chosen and typed; a late answer to the question before is dropped', async () => {
  const { asked, answer, answers, field, settle, titles } = await shown(runOf());
  answers[0]?.next(page('p2', '1', '2'));
  await settle();
  expect(titles()).toEqual(['Thing 1', 'Thing 2']);
  const state = (await (await field('State')).getControl(MatSelectHarness)) as MatSelectHarness;
  await state.clickOptions({ text: 'refused' });
  const search = (await (await field('Name or key')).getControl(MatInputHarness)) as MatInputHarness;
  await answer(1);
  await search.setValue('Ö “x”');
  (await answer(2)).next(page(null, '5'));
  expect(asked).toEqual([{}, { state: 'refused' }, { state: 'refused', search: 'Ö “x”' }]);
  answers[1]?.next(page(null, '4'));
  await settle();
  expect(titles()).toEqual(['Thing 5']);
});

test('more is added below; not to a list that was asked for meanwhile', async () => {
  const { asked, answer, answers, field, settle, titles, press } = await shown(runOf());
  answers[0]?.next(page('p2', '1'));
  await settle();
  await press('Show more');
  answers[1]?.next(page('p3', '2'));
  await settle();
  expect([asked[1], titles()]).toEqual([{ after: 'p2' }, ['Thing 1', 'Thing 2']]);
  await press('Show more');
  const kind = (await (await field('Kind')).getControl(MatSelectHarness)) as MatSelectHarness;
  await kind.clickOptions({ text: 'create' });
  (await answer(3)).next(page(null, '7'));
  answers[2]?.next(page(null, '3'));
  await settle();
  expect(titles()).toEqual(['Thing 7']);
});

test('a run under way shows how far it is, is stopped by who may, and is seen to its end', async () => {
  const begun = runOf({ endedAt: null, state: 'running', progress: null });
  const { api, answers, changes, loader, press, settle, text } = await shown(begun);
  expect(text()).toContain('Waiting for a worker');
  answers[0]?.next({ ...page(null), total: 0 });
  await settle();
  // Before its end, nothing to write yet is not nothing to write.
  expect(text()).not.toContain('No record of that kind was to be written.');
  changes.next({ ...begun, id: 'another', progress: { phase: 'writing', done: 9, tally: {} } });
  changes.next({ ...begun, progress: { phase: 'reading', done: 1234, tally: {} } });
  await settle();
  expect(text()).toContain(': 1,234');
  await press('Stop');
  expect(api.stopRun).toHaveBeenCalledWith('r1');
  api.run = () => of({ run: runOf(), members: [memberNamed('crm')], fields: [] });
  changes.next(runOf());
  await settle();
  expect(await loader.getAllHarnesses(MatProgressBarHarness)).toHaveLength(0);
  expect(text()).toMatch(/Read.*To create.*To update.*Left alone.*Written/);
  expect(text()).not.toContain('To archive');
});

test('a guard that was reached can be passed once by an operator, and by nobody else', async () => {
  const stopped = runOf({ state: 'stopped by a guard', words: '900 creates are more than 300' });
  const { press, start, text } = await shown(stopped);
  expect(text()).toContain('900 creates are more than 300');
  await press('Run over the guards this once');
  expect(start).toHaveBeenCalledWith('customers', 'run', { overGuards: true });
  TestBed.resetTestingModule();
  const { loader } = await shown(stopped, 'viewer');
  expect(await loader.getAllHarnesses(MatButtonHarness.with({ text: /guards/ }))).toHaveLength(0);
});

test('what a run has to say beside its end is shown', async () => {
  const words = '15 records are tied to nothing and left so: no member may start a new customer';
  expect((await shown(runOf({ kind: 'dry run', words }))).text()).toContain(words);
});
