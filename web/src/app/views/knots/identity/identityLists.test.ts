/** Duplicates and verdicts as lists: who carries the tie, what people said, and the way back from both. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { DuplicateList, VerdictList } from '@anchor-knot/contracts';
import { NEVER, of, Subject } from 'rxjs';
import { DecisionsApi } from '../../../api/decisionsApi';
import { LiveEvents } from '../../../api/liveEvents';
import { Telling } from '../../../telling/telling';
import { memberNamed } from '../../../testing/fakeEditor';
import { hands } from '../../../testing/hands';
import { refused, signedInAs } from '../../../testing/stubs';
import { KnotDuplicates } from './knotDuplicates';
import { KnotVerdicts } from './knotVerdicts';

const at = '2026-11-23T10:00:00Z';
const record = (member: string, key: string, title = key) => ({ member, key, title, anchor: null });
const duplicates: DuplicateList = {
  groups: [
    {
      decision: '7',
      fingerprint: 'as seen',
      member: 'shop',
      says: '2 records of Market Row have the same email.',
      anchor: 'a1',
      title: 'Heron Orchids',
      tiedKey: '77234',
      records: [record('shop', '77234', 'Heron Orchids'), record('shop', '77233', 'Heron Orchids')],
      openedAt: at,
    },
  ],
  next: null,
  total: 1,
  setAside: [{ ...record('erp', 'D3', 'Foxglove'), person: 'Halima Boye', at }],
  setAsideTotal: 1,
  members: [{ ...memberNamed('shop'), recordPage: 'https://shop.example/{key}' }, memberNamed('erp')],
};
const verdicts: VerdictList = {
  verdicts: [
    { id: 'v1', a: record('crm', 'A-1', 'Reed'), b: record('shop', '77', '77'), same: true, person: 'Ottilie', at },
    { id: 'v2', a: record('crm', 'A-2', 'Sedge'), b: record('erp', 'D2', 'Sedge'), same: false, person: 'Bram', at },
  ],
  next: 'v2',
  total: 140,
  members: duplicates.members,
};

async function shown(view: typeof KnotDuplicates | typeof KnotVerdicts, role: 'operator' | 'viewer' = 'operator') {
  const api = {
    duplicates: jest.fn((..._: unknown[]) => of(duplicates)),
    verdicts: jest.fn((..._: unknown[]) => of(verdicts)),
    decide: jest.fn((..._: unknown[]) => of({})),
    undoDecision: jest.fn((..._: unknown[]) => of({})),
    takeIn: jest.fn((..._: unknown[]) => of({})),
    takeBackVerdict: jest.fn((..._: unknown[]) => of({})),
  };
  const undo = new Subject<void>();
  const told: string[] = [];
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: DecisionsApi, useValue: api },
      { provide: LiveEvents, useValue: { ends: NEVER, decided: new Subject() } },
      { provide: Telling, useValue: { offer: (says: string) => (told.push(says), undo) } },
      signedInAs(role),
    ],
  });
  const fixture = TestBed.createComponent<KnotDuplicates | KnotVerdicts>(view);
  fixture.componentRef.setInput('knot', 'customers');
  await fixture.whenStable();
  return { ...hands(fixture), api, told, undo };
}

describe('duplicates', () => {
  test('the records of a group lead to their pages; another one carries the tie, and that is taken back', async () => {
    const { press, links, rows, api, told, undo } = await shown(KnotDuplicates);
    expect((await rows())[0]).toContain('carries the tie');
    expect(await links()).toEqual(expect.arrayContaining(['https://shop.example/77233', '/anchors/a1']));
    await press('let it carry the tie');
    const choice = { choose: 'record', key: '77233', fingerprint: 'as seen' };
    expect(api.decide).toHaveBeenCalledWith('customers', '7', choice);
    expect(told).toEqual(['Record 77233 carries the tie; the others are set aside. The next run acts on it.']);
    undo.next();
    expect(api.undoDecision).toHaveBeenCalledWith('customers', '7');
    expect(api.duplicates).toHaveBeenCalledTimes(3);
  });

  test('they are said to be different; one that was set aside is taken in again', async () => {
    const { press, api, rows } = await shown(KnotDuplicates);
    await press('they are different things');
    expect(api.decide).toHaveBeenCalledWith('customers', '7', { choose: 'different', fingerprint: 'as seen' });
    expect((await rows()).at(-1)).toContain('Halima Boye');
    await press(/take .*in/i);
    expect(api.takeIn).toHaveBeenCalledWith('customers', 'erp', 'D3');
  });

  test('what is refused is said, and the list stays; who may only look has nothing to press', async () => {
    const { press, text, api, told } = await shown(KnotDuplicates);
    const changed = { code: 'changed meanwhile', says: 'The values have changed.' };
    api.decide.mockReturnValueOnce(refused(409, changed) as never);
    await press('they are different things');
    expect(await text()).toContain('The values have changed.');
    expect(told).toEqual([]);
    TestBed.resetTestingModule();
    const buttons = await (await shown(KnotDuplicates, 'viewer')).buttons();
    expect(buttons.filter((words) => /carry|different|take/.test(words))).toEqual([]);
  });
});

describe('verdicts', () => {
  test('each pair is a sentence; one is taken back, and older ones are asked for', async () => {
    const { rows, press, text, api } = await shown(KnotVerdicts);
    expect(await text()).toContain('140 verdicts');
    const [same, different] = await rows();
    expect(same).toMatch(/A-1.*Reed.*the same as.*77.*Ottilie/);
    expect(different).toContain('not the same as');
    await press('take it back');
    expect(api.takeBackVerdict).toHaveBeenCalledWith('customers', 'v1');
    expect(api.verdicts).toHaveBeenCalledTimes(2);
    await press('Show older ones');
    expect(api.verdicts).toHaveBeenLastCalledWith('customers', { before: 'v2' });
  });

  test('where nobody has said anything it is told what will be listed', async () => {
    const { api } = await shown(KnotVerdicts);
    TestBed.resetTestingModule();
    expect(api.verdicts).toHaveBeenCalledTimes(1);
    const none = await shown(KnotVerdicts, 'viewer');
    expect(await none.buttons()).toEqual(['Show older ones']);
  });
});
