import { jest } from '@jest/globals';
import { ChangeDetectionStrategy, Component, input, signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { HttpErrorResponse } from '@angular/common/http';
import { Subject, throwError } from 'rxjs';
import { Asking } from './asking';
import { load } from './loaded';

const refusal = (says: string) => new HttpErrorResponse({ status: 409, error: { code: 'refused', says } });

/** One view that asks about its input, as every view does. */
function view() {
  const asked: string[] = [];
  const answers: Subject<string>[] = [];
  const again = new Subject<void>();
  @Component({
    selector: 'ak-asking-view',
    changeDetection: ChangeDetectionStrategy.OnPush,
    template: `{{ view.value() }}`,
  })
  class AskingView {
    readonly id = input.required<string>();
    readonly view = load(
      this.id,
      (id) => {
        asked.push(id);
        const answer = new Subject<string>();
        answers.push(answer);
        return answer;
      },
      again,
    );
  }
  const fixture = TestBed.createComponent(AskingView);
  const show = async (id: string) => {
    fixture.componentRef.setInput('id', id);
    await fixture.whenStable();
  };
  return { asked, answers, again, fixture, show, state: fixture.componentInstance.view };
}

test('an event before the inputs are bound breaks nothing; the question is asked once they are', async () => {
  const { asked, again, show, answers, state } = view();
  again.next();
  await show('a');
  expect(asked).toEqual(['a']);
  answers[0]?.next('first');
  again.next();
  expect(asked).toEqual(['a', 'a']);
  expect(state.value()).toBe('first');
});

test('another question forgets the answer of the one before, also when that comes late', async () => {
  const { answers, show, state } = view();
  await show('a');
  await show('b');
  answers[0]?.next('late');
  expect(state.value()).toBeUndefined();
  expect(state.loading()).toBe(true);
  answers[1]?.next('of b');
  expect(state.value()).toBe('of b');
});

test('a reload that fails says so, keeps what was there, and does not end the asking', async () => {
  const { answers, show, state, fixture, asked } = view();
  await show('a');
  answers[0]?.next('there');
  state.reload();
  answers[1]?.error(refusal('the server is being restarted'));
  expect(state.problem()?.says).toBe('the server is being restarted');
  expect(state.value()).toBe('there');
  state.reload();
  answers[2]?.next('newer');
  expect([state.problem(), state.value()]).toEqual([undefined, 'newer']);
  fixture.destroy();
  state.reload();
  expect(asked).toHaveLength(3);
});

test('with the server gone a view says so, keeps what it had, and goes on by itself when it is back', async () => {
  const { answers, show, state, asked, fixture } = view();
  await show('a');
  answers[0]?.next('there');
  state.reload();
  jest.useFakeTimers();
  try {
    answers[1]?.error(new HttpErrorResponse({ status: 0 }));
    expect([state.problem()?.code, state.value(), state.loading()]).toEqual(['unreachable', 'there', false]);
    // For as long as a minute: a gateway answers for it meanwhile.
    for (let tries = 2; tries < 12; tries += 1) {
      jest.advanceTimersByTime(5_000);
      expect(asked).toHaveLength(tries + 1);
      answers[tries]?.error(new HttpErrorResponse({ status: tries % 2 === 0 ? 503 : 0 }));
      expect(state.value()).toBe('there');
    }
    jest.advanceTimersByTime(5_000);
    answers[12]?.next('newer');
    expect([state.problem(), state.value()]).toEqual([undefined, 'newer']);
    jest.advanceTimersByTime(60_000);
    expect(asked).toHaveLength(13);
    // A refusal is an answer: it is not asked again and again.
    state.reload();
    answers[13]?.error(refusal('no'));
    jest.advanceTimersByTime(60_000);
    expect(asked).toHaveLength(14);
    // Nobody asks for a view that was left.
    state.reload();
    answers[14]?.error(new HttpErrorResponse({ status: 0 }));
    fixture.destroy();
    jest.advanceTimersByTime(60_000);
    expect(asked).toHaveLength(15);
  } finally {
    jest.useRealTimers();
  }
});

test('a question asked by a button: the last one counts, and what went wrong is said once', () => {
  const asking = new Asking();
  const got = signal<string[]>([]);
  const first = new Subject<string>();
  const second = new Subject<string>();
  asking.ask(first, (answer) => got.update((all) => [...all, answer]));
  asking.ask(second, (answer) => got.update((all) => [...all, answer]));
  first.next('late');
  second.next('now');
  expect(got()).toEqual(['now']);
  expect(asking.busy()).toBe(false);
  asking.ask(
    throwError(() => new HttpErrorResponse({ status: 0 })),
    () => undefined,
  );
  expect(asking.problem()).toMatchObject({ code: 'unreachable', says: 'The server cannot be reached.' });
  asking.ask(
    throwError(() => new HttpErrorResponse({ status: 502, error: '<html>' })),
    () => undefined,
  );
  expect(asking.problem()?.says).toBe('The server answered 502.');
});
