/** Setting everything up: each knot in its order, what it would do, what is done, and what is done next. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { FirstLoad, FirstLoads, Run } from '@anchor-knot/contracts';
import { of, Subject } from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import { LiveEvents } from '../../../api/liveEvents';
import { RunsApi } from '../../../api/runsApi';
import { hands } from '../../../testing/hands';
import { quiet, refused, signedInAs, telling } from '../../../testing/stubs';
import { FirstLoadsView } from './firstLoadsView';

const none = { held: 0, waiting: 0, rejected: 0, archive: 0, delete: 0, 'write back': 0, written: 0, failed: 0 };
const run = (kind: Run['kind'], startedAt: string, more: Partial<Run> = {}): Run => ({
  ...{ id: `${kind} ${startedAt}`, knot: 'k', knotVersion: 1, kind, startedBy: 'Halima', cause: 'person' },
  ...{ startedAt, endedAt: startedAt, state: 'succeeded', troubles: [], guards: [], words: null },
  progress: {
    ...{ phase: 'done', done: 0 },
    tally: { erp: { ...none, read: 1200, create: 30, update: 4, 'write back': 1, leftAlone: 0, held: 2 } as never },
  },
  ...more,
});
const member = (id: string, gives: boolean, may: FirstLoad['members'][number]['may']) => ({
  ...{ id, system: id, systemName: id.toUpperCase(), object: 'things', recordPage: null, listPage: null },
  ...{ pennant: { pattern: 'disc', colour: 'ink', letters: 'XX' } as const, gives, takes: may.length > 0, may },
});
const step = (knot: string, more: Partial<FirstLoad> = {}): FirstLoad => ({
  ...{ knot, name: knot, state: 'running', after: [], dryRun: null, lastRun: null, firstRun: null },
  ...{ openRun: null, anchors: 0, agree: 0, decisions: 0, isByHand: true },
  members: [member('shop', true, []), member('erp', false, ['create', 'update'])],
  ...more,
});
const loaded = {
  firstRun: run('run', '2026-11-02T09:00:00Z'),
  anchors: 467,
  agree: 450,
  decisions: 3,
  isByHand: false,
};

async function shown(answer: Partial<FirstLoads>, role: 'operator' | 'viewer' = 'operator') {
  const changes = new Subject<void>();
  const firstLoads = jest.fn(() => of<FirstLoads>({ steps: [], drafts: [], ...answer }));
  const startTogether = jest.fn((_: string, knots: readonly string[]) => of(knots.map((knot) => ({ knot }))));
  const startRun = jest.fn((..._: unknown[]) => of('r'));
  const { told, provider } = telling();
  TestBed.configureTestingModule({
    providers: [
      quiet,
      provideRouter([]),
      { provide: KnotsApi, useValue: { firstLoads } },
      { provide: RunsApi, useValue: { startTogether, startRun } },
      { provide: LiveEvents, useValue: { anything: changes } },
      signedInAs(role),
      provider,
    ],
  });
  const fixture = TestBed.createComponent(FirstLoadsView);
  await fixture.whenStable();
  return { ...hands(fixture), told, startTogether, startRun, firstLoads, changes };
}

test('the first knot that is not loaded is open: its directions, what it waits for, what it would do', async () => {
  const dryRun = run('dry run', '2026-11-03T09:00:00Z');
  const steps = [
    step('Customers', loaded),
    step('Articles'),
    step('Orders', { after: ['Customers', 'Articles'], dryRun }),
  ];
  const { text, rows, press, buttons, startTogether, startRun, told } = await shown({ steps });
  const said = await text();
  expect(said).toContain('1 of 3 knots loaded.');
  expect(said).toContain('Customers loaded · 467 anchors');
  expect(said).toContain('Articles not tried yet');
  expect(said).toContain('Nothing is known yet of what it would do. A dry run writes nothing.');
  expect(await rows()).toEqual(['SHOP thingsgives values', 'ERP thingsrecords are created and updated there']);
  expect(await buttons()).toEqual(expect.arrayContaining(['Load the 2 that are left', 'Try it (Articles)']));
  await press('Try it (Articles)');
  expect(startRun).toHaveBeenLastCalledWith('Articles', 'dry run', {});
  await press('Load it (Articles)');
  expect(startRun).toHaveBeenLastCalledWith('Articles', 'run', {});
  await press('Load the 2 that are left');
  expect(startTogether).toHaveBeenLastCalledWith('run', ['Articles', 'Orders']);
  expect(told).toEqual(['2 runs started, one after the other. You can leave this page.']);
  await press('Try all');
  expect(startTogether).toHaveBeenLastCalledWith('dry run', ['Customers', 'Articles', 'Orders']);
});

test('what was tried is told in numbers; what comes before and is missing is named', async () => {
  const guards = [{ member: 'erp', says: '30 records would be created; the guard allows 10' }];
  const dryRun = run('dry run', '2026-11-03T09:00:00Z', { state: 'stopped by a guard', guards });
  const { text, rows, links } = await shown({
    steps: [step('Orders', { after: ['Customers'], dryRun }), step('Customers')],
  });
  expect((await rows())[1]).toContain('1,200305' + '02');
  const said = await text();
  expect(said).toContain('Comes after Customers. Customers is not loaded yet: what refers to it waits until then');
  expect(said).toContain('stopped by a guard. 30 records would be created and 4 would be updated in ERP.');
  expect(said).toContain('the guard allows 10.');
  expect(await links()).toContain('/knots/Orders/dry-run');
});

test('a loaded knot tells of its first load, also after later runs; one under way says how far it is', async () => {
  const lastRun = run('run', '2026-11-09T09:00:00Z', { state: 'failed' });
  const openRun = run('run', '2026-11-10T09:00:00Z', {
    ...{ endedAt: null, state: 'running' },
    progress: { phase: 'reading', done: 1408, tally: {} },
  });
  const { text, buttons } = await shown({ steps: [step('Customers', { ...loaded, lastRun, openRun })] });
  const said = await text();
  expect(said).toContain('Customers runs now');
  expect(said).toContain('It runs. Reading records: 1,408. Follow it');
  expect(said).toContain('467 anchors, of which 450 agree; 3 decisions. It runs by itself from now on. When');
  expect(await buttons()).not.toContain('Load all');
});

test('a step that is done by now stays open: nobody is taken away from what they read', async () => {
  const { text, firstLoads, changes } = await shown({ steps: [step('Customers'), step('Orders')] });
  expect(await text()).toContain('Try it (Customers)');
  firstLoads.mockReturnValue(of({ steps: [step('Customers', loaded), step('Orders')], drafts: [] }));
  changes.next();
  expect(await text()).toContain('Run it again (Customers)');
  expect(await text()).not.toContain('Try it (Orders)');
});

test('who may only look starts nothing; drafts are named, and with no knot it says what will stand here', async () => {
  const { text, buttons, links } = await shown({ drafts: [{ knot: 'leads', name: 'Leads' }] }, 'viewer');
  expect(await text()).toContain('Not in force yet, and so not loaded: Leads.');
  expect(await text()).toContain('No knot is in force yet.');
  expect(await links()).toContain('/knots/leads/fields');
  expect(await buttons()).toEqual(['Leave']);
});

test('a refusal to start is said, and nothing is said to have started', async () => {
  const { press, text, told, startTogether } = await shown({ steps: [step('Customers')] });
  startTogether.mockReturnValueOnce(refused(409, { code: 'busy', says: 'The queue is full.' }) as never);
  await press('Load all');
  expect(await text()).toContain('The queue is full.');
  expect(told).toEqual([]);
});
