import { inject, Injectable, signal } from '@angular/core';
import {
  type Choice,
  type DecidedMany,
  type Decision,
  type DecisionName,
  mostDecisions,
  type Problem,
} from '@anchor-knot/contracts';
import { type Observable, Subject } from 'rxjs';
import { DecisionsApi } from '../../api/decisionsApi';
import { LiveEvents } from '../../api/liveEvents';
import { problemOf } from '../../api/problems';
import { Telling } from '../../telling/telling';
import { plural } from '../../words/sentences';

export const nameOf = ({ knot, id }: Pick<Decision, 'knot' | 'id'>): DecisionName => ({ knot, decision: id });

/** What a person does with decisions, one or many at once, and the way back from it. */
@Injectable({ providedIn: 'root' })
export class DecisionActs {
  readonly #api = inject(DecisionsApi);
  readonly #telling = inject(Telling);
  readonly #live = inject(LiveEvents);
  readonly #busy = signal(false);
  readonly #problem = signal<Problem | undefined>(undefined);
  readonly busy = this.#busy.asReadonly();
  /** Why the last one was not done. */
  readonly problem = this.#problem.asReadonly();
  /** Decisions that wait again. */
  readonly undone = new Subject<readonly DecisionName[]>();
  /** What can be taken back: the last that was done. */
  #last: readonly DecisionName[] = [];

  /** @param then what follows when it was decided, or when it turned out to be no longer open */
  decide(decision: Decision, choice: Choice, then: () => void): void {
    this.#begin();
    this.#api.decide(decision.knot, decision.id, choice).subscribe({
      next: () => {
        this.#end();
        const says = saysOf(choice);
        this.#offerUndo(says, [nameOf(decision)]);
        then();
      },
      error: (error: unknown) => {
        this.#busy.set(false);
        this.#problem.set(problemOf(error));
        if (this.#problem()?.code !== 'not a choice') then();
      },
    });
  }

  decideMany(choices: readonly { readonly decision: Decision; readonly choice: Choice }[], then: () => void): void {
    const decisions = choices.slice(0, mostDecisions).map(({ decision, choice }) => ({ ...nameOf(decision), choice }));
    const knotOf = new Map(decisions.map(({ decision, knot }) => [decision, knot]));
    this.#begin();
    this.#follow(this.#api.decideMany({ decisions }), (decision) => knotOf.get(decision) ?? '', then);
  }

  /** Tries everything again that the same system refused in the same words. */
  tryAlikeAgain(decision: Decision, then: () => void): void {
    this.#begin();
    this.#follow(this.#api.tryAlikeAgain(decision), () => decision.knot, then);
  }

  #follow(asked: Observable<DecidedMany>, knotOf: (decision: string) => string, then: () => void): void {
    asked.subscribe({
      next: ({ done, not }) => {
        this.#end();
        const left = not.length === 0 ? '' : ` ${plural(not.length, 'decision')} could not be: ${not[0]?.says}`;
        this.#offerUndo(
          `${plural(done.length, 'decision')} taken. The next run acts on them.${left}`,
          done.map((decision) => ({ knot: knotOf(decision), decision })),
        );
        then();
      },
      error: (error: unknown) => this.#fail(error),
    });
  }

  putOff(decisions: readonly Decision[], until: Date, then: () => void): void {
    const names = decisions.map(nameOf);
    this.#begin();
    this.#api.putOff(names, until.toISOString()).subscribe({
      next: (changed) => {
        this.#end();
        this.#telling
          .offer(`${plural(changed, 'decision')} put off until ${until.toLocaleDateString('en-GB')}.`, 'Undo')
          .subscribe(() => this.waitAgain(names, then));
        then();
      },
      error: (error: unknown) => this.#fail(error),
    });
  }

  waitAgain(names: readonly DecisionName[], then: () => void): void {
    this.#begin();
    this.#api.putOff(names, null).subscribe({
      next: () => {
        this.#end();
        then();
      },
      error: (error: unknown) => this.#fail(error),
    });
  }

  give(
    decisions: readonly Decision[],
    to: { email: string; name: string } | null,
    note: string,
    then: () => void,
  ): void {
    this.#begin();
    this.#api.give(decisions.map(nameOf), to?.email ?? null, note).subscribe({
      next: (changed) => {
        this.#end();
        this.#telling.say(
          to === null
            ? `${plural(changed, 'decision')} taken back.`
            : `${plural(changed, 'decision')} given to ${to.name}.`,
        );
        then();
      },
      error: (error: unknown) => this.#fail(error),
    });
  }

  /** Takes the last decisions back, as long as no run has acted on them. */
  undo(): void {
    const names = this.#last;
    this.#last = [];
    if (names.length === 0) return;
    this.#api.undoMany(names).subscribe({
      next: ({ done, not }) => {
        this.#live.decided.next();
        if (not[0]) this.#telling.say(`${plural(not.length, 'decision')} could not be taken back: ${not[0].says}`);
        this.undone.next(names.filter(({ decision }) => done.includes(decision)));
      },
      error: (error: unknown) => this.#telling.sayProblem(error, 'Nothing was taken back.'),
    });
  }

  /** What went wrong with another one is not said of this one. */
  forgetProblem(): void {
    this.#problem.set(undefined);
  }

  #begin(): void {
    this.#busy.set(true);
    this.#problem.set(undefined);
  }
  #end(): void {
    this.#busy.set(false);
    this.#live.decided.next();
  }
  #fail(error: unknown): void {
    this.#busy.set(false);
    this.#problem.set(problemOf(error));
  }
  #offerUndo(says: string, names: readonly DecisionName[]): void {
    if (names.length === 0) return this.#telling.say(says);
    this.#last = names;
    this.#telling.offer(says, 'Undo').subscribe(() => this.undo());
  }
}

function saysOf({ choose }: Choice): string {
  if (choose === 'later') return 'Put off: it comes last.';
  return choose === 'seen' ? 'Seen: it is not asked again as it is.' : 'Decided. The next run acts on it.';
}
