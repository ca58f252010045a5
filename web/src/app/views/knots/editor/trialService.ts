import { DestroyRef, inject, Injectable } from '@angular/core';
import type { KnotDefinition } from '@anchor-knot/contracts';
import type { Check, FieldType, Finding, Outcome, Passing, Trial } from '@anchor-knot/core';
import { filter, fromEvent, map, type Observable, of, startWith, switchMap, take } from 'rxjs';
import { ReferenceTargets } from './referenceTargets';
import type {
  FormulaTypes,
  FormulaVerdict,
  FunctionHelp,
  KnownOfKnots,
  Records,
  TrialAnswer,
  TrialQuestion,
  TrialSources,
} from './trialMessages';

type Asked = TrialQuestion extends infer Question
  ? Question extends { id: number }
    ? Omit<Question, 'id'>
    : never
  : never;

/** Asks the worker that tries definitions. An answer that nobody waits for any more is dropped. */
@Injectable()
export class TrialService {
  readonly #worker = new Worker(new URL('./trial.worker', import.meta.url), { type: 'module' });
  readonly #answers = fromEvent<MessageEvent<TrialAnswer>>(this.#worker, 'message').pipe(map(({ data }) => data));
  readonly #targets = inject(ReferenceTargets);
  #last = 0;

  constructor() {
    inject(DestroyRef).onDestroy(() => this.#worker.terminate());
  }

  know(sources: TrialSources): void {
    this.#worker.postMessage({ kind: 'sources', sources } satisfies TrialQuestion);
  }
  /** What comes of records; where they refer to things of other knots, again when these were looked up. */
  try(definition: KnotDefinition, records: Records): Observable<Trial> {
    return this.#tryWith(definition, records).pipe(
      switchMap(({ trial, asked }) =>
        asked.length === 0
          ? of(trial)
          : this.#targets.knownOf(asked).pipe(
              switchMap((known) => this.#tryWith(definition, records, known)),
              map((again) => again.trial),
              startWith(trial),
            ),
      ),
    );
  }
  #tryWith(definition: KnotDefinition, records: Records, known?: KnownOfKnots) {
    return this.#ask({ kind: 'try', definition, records, known }, 'tried');
  }
  review(definition: KnotDefinition): Observable<readonly Finding[]> {
    return this.#ask({ kind: 'review', definition }, 'reviewed').pipe(map(({ findings }) => findings));
  }
  filter(member: string, formula: string): Observable<Outcome<Passing>> {
    return this.#ask({ kind: 'filter', member, formula }, 'filtered').pipe(map(({ outcome }) => outcome));
  }
  check(
    definition: KnotDefinition,
    check: Check,
    members: readonly string[],
  ): Observable<Readonly<Record<string, Outcome<Passing>>>> {
    return this.#ask({ kind: 'check', definition, check, members }, 'checked').pipe(map(({ outcomes }) => outcomes));
  }
  /** What is wrong with a formula over these names. @param wanted the type that it shall give */
  formula(source: string, types: FormulaTypes, wanted?: FieldType): Observable<FormulaVerdict> {
    return this.#ask({ kind: 'formula', source, types, wanted }, 'formula').pipe(map(({ verdict }) => verdict));
  }
  /** The formula that leads back, or why there is none. */
  inverse(source: string): Observable<Outcome<string>> {
    return this.#ask({ kind: 'inverse', source }, 'inverse').pipe(map(({ outcome }) => outcome));
  }
  functions(): Observable<readonly FunctionHelp[]> {
    return this.#ask({ kind: 'functions' }, 'functions').pipe(map(({ functions }) => functions));
  }

  #ask<Kind extends TrialAnswer['kind']>(
    question: Asked,
    kind: Kind,
  ): Observable<Extract<TrialAnswer, { kind: Kind }>> {
    const id = ++this.#last;
    this.#worker.postMessage({ ...question, id } as TrialQuestion);
    return this.#answers.pipe(
      filter((answer): answer is Extract<TrialAnswer, { kind: Kind }> => answer.id === id && answer.kind === kind),
      take(1),
    );
  }
}
