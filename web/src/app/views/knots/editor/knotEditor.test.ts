/** Edits of a draft on their way to the server: whoever leaves, and whenever, has what was edited kept. */
import { readFileSync } from 'node:fs';
import { jest } from '@jest/globals';
import { HttpErrorResponse } from '@angular/common/http';
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { knotDraftSchema, knotFileSchema, type SaveDraft } from '@anchor-knot/contracts';
import { EMPTY, type Observable, of, Subject } from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import { LiveEvents } from '../../../api/liveEvents';
import { SystemsApi } from '../../../api/systemsApi';
import { SessionService } from '../../../api/session';
import { KnotEditor } from './knotEditor';
import { ReferenceTargets } from './referenceTargets';
import { TrialService } from './trialService';

const definition = knotDraftSchema.parse(
  knotFileSchema.parse(JSON.parse(readFileSync('server/demo/customers.knot.json', 'utf8'))).knot,
);

/** An editor on a draft of revision 4, and what it sends; each sending waits for its answer. */
function opened() {
  jest.useFakeTimers();
  const sent: { readonly name: string; readonly revision: number; readonly answer: Subject<number> }[] = [];
  const draft = { definition, turnedDown: [], revision: 4, basedOn: 1, changedBy: 'Vera', changedAt: '' };
  const api = {
    knots: () => of([]),
    draft: () => of(draft),
    saveDraft: (_: string, { definition: { name }, revision }: SaveDraft): Observable<number> => {
      const answer = new Subject<number>();
      sent.push({ name, revision, answer });
      return answer;
    },
  };
  TestBed.configureTestingModule({
    providers: [
      KnotEditor,
      ReferenceTargets,
      { provide: KnotsApi, useValue: api },
      { provide: SystemsApi, useValue: { systems: () => of([]) } },
      { provide: TrialService, useValue: { try: () => of(undefined), review: () => of([]), know: () => undefined } },
      { provide: SessionService, useValue: { may: () => true, person: signal({ name: 'Vera' }) } },
      { provide: LiveEvents, useValue: { drafts: EMPTY } },
    ],
  });
  const editor = TestBed.inject(KnotEditor);
  editor.open('customers');
  const answer = (revision: number) => {
    const last = sent.at(-1);
    last?.answer.next(revision);
    last?.answer.complete();
  };
  const fail = (error: unknown) => sent.at(-1)?.answer.error(error);
  const closing = () => window.dispatchEvent(new Event('beforeunload', { cancelable: true }));
  return {
    editor,
    rename: (name: string) => editor.edit((now) => ({ ...now, name })),
    sent: () => sent.map(({ name, revision }) => [name, revision]),
    answer,
    fail,
    /** Whether a page that is closed now would ask. */
    asks: () => !closing(),
  };
}
afterEach(() => jest.useRealTimers());

test('edits are gathered, sent one after another, and each on the revision that the one before made', () => {
  const { editor, rename, sent, answer } = opened();
  rename('a');
  rename('ab');
  jest.advanceTimersByTime(400);
  rename('abc');
  jest.advanceTimersByTime(400);
  expect([sent(), editor.saving()]).toEqual([[['ab', 4]], 'saving']);
  answer(5);
  expect(sent().at(-1)).toEqual(['abc', 5]);
  answer(6);
  expect(editor.saving()).toBe('saved');
});

test('who leaves while an edit is under way, and another waits, has both kept; a closing page asks until then', () => {
  const { rename, sent, answer, asks } = opened();
  expect(asks()).toBe(false);
  rename('first');
  jest.advanceTimersByTime(400);
  rename('last');
  TestBed.resetTestingModule();
  expect([sent(), asks()]).toEqual([[['first', 4]], true]);
  answer(5);
  expect([sent().at(-1), asks()]).toEqual([['last', 5], true]);
  answer(6);
  expect(asks()).toBe(false);
});

test('who leaves right after an edit has it sent at once', () => {
  const { rename, sent } = opened();
  rename('left');
  TestBed.resetTestingModule();
  expect(sent()).toEqual([['left', 4]]);
});

test('with the server gone an edit is not saved, and says so; it is sent again by itself until it is kept', () => {
  const { editor, rename, sent, answer, fail, asks } = opened();
  rename('a');
  jest.advanceTimersByTime(400);
  fail(new HttpErrorResponse({ status: 0 }));
  expect([editor.saving(), editor.problem()?.code, asks()]).toEqual(['not saved', 'unreachable', true]);
  rename('ab');
  jest.advanceTimersByTime(400);
  fail(new HttpErrorResponse({ status: 502 }));
  jest.advanceTimersByTime(6000);
  expect(sent()).toEqual([
    ['a', 4],
    ['ab', 4],
    ['ab', 4],
  ]);
  answer(5);
  expect([editor.saving(), editor.problem()]).toEqual(['saved', undefined]);
  jest.advanceTimersByTime(60_000);
  expect(sent()).toHaveLength(3);
  // What was refused is not sent again.
  rename('abc');
  jest.advanceTimersByTime(400);
  fail(new HttpErrorResponse({ status: 422, error: { code: 'invalid', says: 'No.' } }));
  jest.advanceTimersByTime(60_000);
  expect([sent().length, editor.saving()]).toEqual([4, 'not saved']);
});
