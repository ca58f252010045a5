import { DestroyRef, inject, type Signal, signal } from '@angular/core';
import { takeUntilDestroyed, toObservable } from '@angular/core/rxjs-interop';
import type { Problem } from '@anchor-knot/contracts';
import { catchError, concat, map, merge, type Observable, of, startWith, Subject, switchMap, take, timer } from 'rxjs';
import { isAway, problemOf } from './problems';

/** How long after nobody answered the same is asked again. */
export const askAgainMs = 5000;

/** What a view shows: still loading, loaded, or the problem. A reload keeps showing what was there. */
export interface Loaded<T> {
  readonly value: Signal<T | undefined>;
  readonly problem: Signal<Problem | undefined>;
  readonly loading: Signal<boolean>;
  reload(): void;
}

type Answer<T> = { readonly answer: T } | { readonly error: unknown };

/** The answer, or what went wrong; where nobody answered, it is asked again until somebody does. */
function answerTo<T>(ask: () => Observable<T>): Observable<Answer<T>> {
  return ask().pipe(
    map((answer): Answer<T> => ({ answer })),
    catchError((error: unknown) => {
      const wrong = of<Answer<T>>({ error });
      return isAway(error) ? concat(wrong, timer(askAgainMs).pipe(switchMap(() => answerTo(ask)))) : wrong;
    }),
  );
}

/**
 * Loads for as long as the view lives, again whenever the question changes or something tells to, and until the server
 * is there. Call in an injection context.
 */
export function load<Question, T>(
  question: Signal<Question>,
  ask: (question: Question) => Observable<T>,
  again: Observable<unknown> = of(),
): Loaded<T> {
  const value = signal<T | undefined>(undefined);
  const problem = signal<Problem | undefined>(undefined);
  const loading = signal(true);
  const reloads = new Subject<void>();
  let asked: Question | undefined;
  // A component hears of events before its inputs are bound, and may not read them until then: nothing is asked again
  // before the first question.
  const questions = toObservable(question);
  merge(
    questions,
    questions.pipe(
      take(1),
      switchMap(() => merge(reloads, again)),
      map(() => question()),
    ),
  )
    .pipe(
      switchMap((now) => {
        if (asked !== now) value.set(undefined);
        asked = now;
        return answerTo(() => ask(now)).pipe(startWith('asked' as const));
      }),
      takeUntilDestroyed(inject(DestroyRef)),
    )
    .subscribe((state) => {
      loading.set(state === 'asked');
      if (state === 'asked') return;
      problem.set('error' in state ? problemOf(state.error) : undefined);
      if ('answer' in state) value.set(state.answer);
    });
  return {
    value: value.asReadonly(),
    problem: problem.asReadonly(),
    loading: loading.asReadonly(),
    reload: () => reloads.next(),
  };
}
