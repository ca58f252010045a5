import { DestroyRef, inject, Injectable } from '@angular/core';
import type { KnotDefinition, LookUpAnswer } from '@anchor-knot/contracts';
import type { Check, FieldType, Finding, Outcome, Passing, Trial } from '@anchor-knot/core';
import { filter, fromEvent, map, type Observable, take } from 'rxjs';
import type {
  AskedOfKnot,
  FormulaTypes,
  FormulaVerdict,
  FunctionHelp,
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
  #last = 0;

  constructor() {
    inject(DestroyRef).onDestroy(() => this.#worker.terminate());
  }

  know(sources: TrialSources): void {
    this.#worker.postMessage({ kind: 'sources', sources } satisfies TrialQuestion);
  }
  /** @param names what is known of the knots that it refers to */
  try(
    definition: KnotDefinition,
    records: Records,
    names?: LookUpAnswer['names'],
  ): Observable<{ readonly trial: Trial; readonly asked: readonly AskedOfKnot[] }> {
    return this.#ask({ kind: 'try', definition, records, names }, 'tried');
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
