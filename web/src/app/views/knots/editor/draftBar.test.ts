/** How a draft stands is always said; it is put in force with a note, and given up only when that is said twice. */
import { HttpErrorResponse } from '@angular/common/http';
import { jest } from '@jest/globals';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { provideRouter, Router } from '@angular/router';
import type { Problem } from '@anchor-knot/contracts';
import type { Finding } from '@anchor-knot/core';
import { of, Subject, throwError } from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import { Telling } from '../../../telling/telling';
import { fakeEditor } from '../../../testing/fakeEditor';
import { DraftBar } from './draftBar';
import { KnotEditor } from './knotEditor';

async function shown(version = 3) {
  const editor = {
    ...fakeEditor(),
    hasDraft: () => true,
    draft: signal({ basedOn: 3, changedBy: 'Vera Lindqvist', changedAt: '2026-11-29T06:00:00.000Z' }),
    findings: signal<readonly Finding[]>([]),
    problem: signal<Problem | undefined>(undefined),
    saving: signal<'saved' | 'saving' | 'not saved'>('saved'),
    revision: 12,
    canUndo: () => true,
    canRedo: () => false,
    undo: jest.fn(),
    redo: jest.fn(),
    open: jest.fn(),
    takeTheirs: jest.fn(),
    keepMine: jest.fn(),
    saveAgain: jest.fn(),
  };
  const api = { putInForce: jest.fn((..._: unknown[]) => of(false)), discardDraft: jest.fn(() => of({})) };
  const said: string[] = [];
  TestBed.configureTestingModule({
    providers: [
      provideRouter([{ path: '**', children: [] }]),
      { provide: KnotEditor, useValue: editor },
      { provide: KnotsApi, useValue: api },
      { provide: Telling, useValue: { say: (words: string) => said.push(words) } },
    ],
  });
  const fixture = TestBed.createComponent(DraftBar);
  fixture.componentRef.setInput('knot', { id: 'customers', version });
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const button = (text: string) => loader.getHarness(MatButtonHarness.with({ text }));
  const text = async () => {
    await fixture.whenStable();
    return (fixture.nativeElement as HTMLElement).textContent.replaceAll(/\s+/g, ' ');
  };
  return { editor, api, said, loader, button, text };
}

test('a version is put in force with its note, on the revision that is shown', async () => {
  const { editor, api, said, loader, button } = await shown();
  const note = await loader.getHarness(MatInputHarness);
  await note.setValue('Phones in one form');
  await (await button('Put in force')).click();
  expect(api.putInForce).toHaveBeenCalledWith('customers', {
    definition: editor.definition(),
    basedOn: 3,
    draft: 12,
    note: 'Phones in one form',
  });
  expect([said, await note.getValue()]).toEqual([['Version 4 is in force. The next run works by it.'], '']);
  expect(editor.open).toHaveBeenCalledWith('customers');
});

test('during a run it is said that it waits; what the server does not take is shown, and the note stays', async () => {
  const { api, said, loader, button, text } = await shown();
  api.putInForce.mockReturnValueOnce(of(true));
  await (await button('Put in force')).click();
  expect(said).toEqual(['Version 4 is put in force when the run that is under way has ended.']);
  const problems = [{ at: 'fields.phone', says: 'there is no such field' }];
  const error = { code: 'invalid', says: 'This cannot be put in force.', problems };
  api.putInForce.mockReturnValueOnce(throwError(() => new HttpErrorResponse({ status: 422, error })));
  const note = await loader.getHarness(MatInputHarness);
  await note.setValue('Second try');
  await (await button('Put in force')).click();
  expect(await text()).toContain('This cannot be put in force.');
  expect(await text()).toContain('fields.phone there is no such field');
  expect(await note.getValue()).toBe('Second try');
});

test('nothing is put in force with a problem in it, unsaved, or twice', async () => {
  const { editor, api, button } = await shown();
  const isDisabled = async () => (await button('Put in force')).isDisabled();
  expect(await isDisabled()).toBe(false);
  editor.findings.set([{ kind: 'stops', at: 'keyRules', says: 'none' }]);
  expect(await isDisabled()).toBe(true);
  editor.findings.set([{ kind: 'warns', at: 'keyRules', says: 'few' }]);
  expect(await isDisabled()).toBe(false);
  editor.saving.set('saving');
  expect(await isDisabled()).toBe(true);
  editor.saving.set('saved');
  api.putInForce.mockReturnValueOnce(new Subject<boolean>());
  await (await button('Put in force')).click();
  expect(await isDisabled()).toBe(true);
});

test('a draft of an older version says so; two editors at once are both asked', async () => {
  const { editor, button, text } = await shown(5);
  expect(await text()).toContain('begun from version 3, and version 5 is in force');
  editor.problem.set({ code: 'changed meanwhile', says: 'Somebody else changed this draft.' });
  await (await button('Take the draft as it is now')).click();
  await (await button('Keep mine instead')).click();
  expect([editor.takeTheirs.mock.calls.length, editor.keepMine.mock.calls.length]).toEqual([1, 1]);
});

test('what could not be saved says so and is tried again', async () => {
  const { editor, button, text } = await shown();
  editor.problem.set({ code: 'unreachable', says: 'The server cannot be reached.' });
  editor.saving.set('not saved');
  expect(await text()).toMatch(/The server cannot be reached.*· not saved/);
  await (await button('Try to save again')).click();
  expect(editor.saveAgain).toHaveBeenCalledTimes(1);
});

test.each([
  [3, 'All edits go.', '/'],
  [0, 'The whole knot goes.', '/knots'],
])('giving up a draft of version %i says “%s” first, and can be left', async (version, words, address) => {
  const { api, button, text } = await shown(version);
  await (await button('Give up…')).click();
  expect(await text()).toContain(words);
  await (await button('Keep it')).click();
  expect(api.discardDraft).not.toHaveBeenCalled();
  await (await button('Give up…')).click();
  await (await button('Give it up')).click();
  expect(api.discardDraft).toHaveBeenCalledWith('customers');
  await text();
  expect(TestBed.inject(Router).url).toBe(address);
});
