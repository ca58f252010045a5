import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, signal } from '@angular/core';
import { takeUntilDestroyed, toObservable } from '@angular/core/rxjs-interop';
import { MatButtonModule } from '@angular/material/button';
import { MatProgressBarModule } from '@angular/material/progress-bar';
import { RouterLink } from '@angular/router';
import type { CauseView, MemberTally, PlannedOperation, Problem, Run, RunView } from '@anchor-knot/contracts';
import { catchError, combineLatest, debounceTime, filter, merge, of, startWith, Subject, switchMap } from 'rxjs';
import { Api, problemOf } from '../../api/api';
import { LiveEvents } from '../../api/liveEvents';
import { load, type Loaded } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Pennant } from '../../pennant/pennant';
import { Value } from '../../values/value';
import { causeWords, phaseWords, plural, runSentence } from '../../words/sentences';
import { ExactTimePipe } from '../../words/times';
import { State } from '../state';
import { StartRun } from './startRun';

const columns: readonly {
  readonly key: Exclude<keyof MemberTally, 'accounts'>;
  readonly dry: string;
  readonly done: string;
}[] = [
  { key: 'read', dry: 'Read', done: 'Read' },
  { key: 'create', dry: 'Would be created', done: 'To create' },
  { key: 'update', dry: 'Would be updated', done: 'To update' },
  { key: 'archive', dry: 'Would be archived', done: 'To archive' },
  { key: 'delete', dry: 'Would be deleted', done: 'To delete' },
  { key: 'leftAlone', dry: 'Left alone', done: 'Left alone' },
  { key: 'held', dry: 'Held', done: 'Held' },
  { key: 'rejected', dry: 'Rejected', done: 'Rejected' },
  { key: 'waiting', dry: 'Wait', done: 'Wait' },
  { key: 'written', dry: '', done: 'Written' },
  { key: 'failed', dry: '', done: 'Not written' },
];

/** One run or dry run: how far it is, counts per system, and every single change as before and after. */
@Component({
  selector: 'ak-run-detail',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, MatButtonModule, MatProgressBarModule, Pennant, Value, State, ExactTimePipe],
  templateUrl: './runDetail.html',
  styleUrl: './runDetail.scss',
})
export class RunDetail {
  readonly run = input.required<string>();
  protected readonly session = inject(SessionService);
  protected readonly runs = inject(StartRun);
  readonly #api = inject(Api);
  readonly #live = inject(LiveEvents);
  protected readonly phases = phaseWords;
  protected readonly plural = plural;
  protected readonly states = ['planned', 'written', 'refused', 'raced', 'gone', 'not done', 'unclear'];
  protected readonly view: Loaded<RunView> = load(
    this.run,
    (id) => this.#api.run(id),
    merge(
      this.#live.opened,
      this.#live.changes.pipe(
        filter((run) => run.id === this.run() && (run.endedAt !== null || this.view.value() === undefined)),
      ),
    ),
  );
  protected readonly live = linkedSignal<string, Run | undefined>({ source: this.run, computation: () => undefined });

  protected readonly member$ = new Subject<string>();
  protected readonly kind$ = new Subject<string>();
  protected readonly state$ = new Subject<string>();
  protected readonly search$ = new Subject<string>();
  readonly #query = signal<Record<string, string>>({});
  protected readonly operations = signal<readonly PlannedOperation[]>([]);
  /** Undefined until the first answer has come. */
  protected readonly total = signal<number | undefined>(undefined);
  protected readonly next = signal<string | null>(null);
  protected readonly problem = signal<Problem | undefined>(undefined);
  readonly #names = computed(() => new Map(this.view.value()?.fields.map(({ id, name }) => [id, name])));

  constructor() {
    const run$ = toObservable(this.run);
    const mine = run$.pipe(switchMap((id) => this.#live.changes.pipe(filter((run) => run.id === id))));
    mine.pipe(takeUntilDestroyed()).subscribe((run) => this.live.set(run));
    const filled = (values: Record<string, string>) =>
      Object.fromEntries(Object.entries(values).filter(([, value]) => value !== ''));
    const changed = merge(this.#live.opened, mine).pipe(startWith(undefined));
    combineLatest({
      run: run$,
      member: this.member$.pipe(startWith('')),
      kind: this.kind$.pipe(startWith('')),
      state: this.state$.pipe(startWith('')),
      search: this.search$.pipe(startWith('')),
      changed,
    })
      .pipe(
        debounceTime(150),
        switchMap(({ run, changed: _, ...query }) => {
          this.#query.set(filled(query));
          this.problem.set(undefined);
          return this.#api.operations(run, this.#query()).pipe(
            catchError((error: unknown) => {
              this.problem.set(problemOf(error));
              return of({ operations: [], next: null, total: 0 });
            }),
          );
        }),
        takeUntilDestroyed(),
      )
      .subscribe((page) => {
        this.operations.set(page.operations);
        this.next.set(page.next);
        this.total.set(page.total);
      });
  }

  protected more(): void {
    this.#api.operations(this.run(), { ...this.#query(), after: this.next() ?? '' }).subscribe({
      next: (page) => {
        this.operations.update((known) => [...known, ...page.operations]);
        this.next.set(page.next);
      },
      error: (error: unknown) => this.problem.set(problemOf(error)),
    });
  }
  protected stop(run: string): void {
    this.#api.stopRun(run).subscribe({ error: (error: unknown) => this.problem.set(problemOf(error)) });
  }
  protected shown(run: Run) {
    const removes = (key: 'archive' | 'delete'): boolean =>
      Object.values(run.progress?.tally ?? {}).some((tally) => tally[key] > 0);
    return columns.filter(
      ({ key, dry }) => (run.kind === 'run' || dry !== '') && ((key !== 'archive' && key !== 'delete') || removes(key)),
    );
  }
  protected sentence(run: Run): string {
    return runSentence(run, this.view.value()?.members ?? []);
  }
  protected memberOf(id: string) {
    return this.view.value()?.members.find((member) => member.id === id);
  }
  protected fieldName(id: string): string {
    return this.#names().get(id) ?? id;
  }
  protected why(cause: CauseView): string {
    return causeWords(cause, this.view.value()?.members ?? []);
  }
}
