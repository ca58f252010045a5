import { DestroyRef, inject, type Signal, signal } from '@angular/core';
import { takeUntilDestroyed, toObservable } from '@angular/core/rxjs-interop';
import type { Problem } from '@anchor-knot/contracts';
import { catchError, map, merge, type Observable, of, startWith, Subject, switchMap, take } from 'rxjs';
import { problemOf } from './problems';

/** What a view shows: still loading, loaded, or the problem. A reload keeps showing what was there. */
export interface Loaded<T> {
  readonly value: Signal<T | undefined>;
  readonly problem: Signal<Problem | undefined>;
  readonly loading: Signal<boolean>;
  reload(): void;
}

/**
 * Loads for as long as the view lives, again whenever the question changes or something tells to. Call in an injection
 * context.
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
        return ask(now).pipe(
          map((answer) => ({ answer })),
          catchError((error: unknown) => of({ error })),
          startWith('asked' as const),
        );
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
