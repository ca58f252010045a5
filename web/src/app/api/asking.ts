import { signal } from '@angular/core';
import type { Problem } from '@anchor-knot/contracts';
import type { Observable, Subscription } from 'rxjs';
import { problemOf } from './problems';

/** A question that a person asks by a button: under way, answered, or refused with a problem. */
export class Asking {
  readonly busy = signal(false);
  readonly problem = signal<Problem | undefined>(undefined);
  #last: Subscription | undefined;

  /** Asks; a question before that is still under way is forgotten, so that its late answer takes nobody by surprise. */
  ask<Answer>(question: Observable<Answer>, then: (answer: Answer) => void): void {
    this.#last?.unsubscribe();
    this.busy.set(true);
    this.problem.set(undefined);
    this.#last = question.subscribe({
      next: (answer) => {
        this.busy.set(false);
        then(answer);
      },
      error: (error: unknown) => {
        this.busy.set(false);
        this.problem.set(problemOf(error));
      },
    });
  }
}
