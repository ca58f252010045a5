import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, signal } from '@angular/core';
import { takeUntilDestroyed, toObservable } from '@angular/core/rxjs-interop';
import { FormControl, FormGroup, ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatProgressBarModule } from '@angular/material/progress-bar';
import { MatSelectModule } from '@angular/material/select';
import { RouterLink } from '@angular/router';
import type { CauseView, MemberTally, PlannedOperation, Problem, Run, RunView } from '@anchor-knot/contracts';
import { catchError, combineLatest, debounceTime, filter, merge, of, startWith, switchMap } from 'rxjs';
import { RunsApi } from '../../api/runsApi';
import { problemOf } from '../../api/problems';
import { LiveEvents } from '../../api/liveEvents';
import { load, type Loaded } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Fold } from '../../fields/fold';
import { Pennant } from '../../pennant/pennant';
import { Value } from '../../values/value';
import { causeWords, phaseWords, plural, runSentence, starterWords } from '../../words/sentences';
import { ExactTimePipe } from '../../words/times';
import { State } from '../state';
import { RunCalls } from './runCalls';
import { RunSteps } from './runSteps';
import { StartRun } from './startRun';
import { ProblemText } from '../problem';
import { tableParts } from '../../tables/rows';

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
  { key: 'write back', dry: 'Would be told', done: 'To tell' },
  { key: 'leftAlone', dry: 'Left alone', done: 'Left alone' },
  { key: 'held', dry: 'Held', done: 'Held' },
  { key: 'rejected', dry: 'Rejected', done: 'Rejected' },
  { key: 'waiting', dry: 'Wait', done: 'Wait' },
  { key: 'written', dry: '', done: 'Written' },
  { key: 'failed', dry: '', done: 'Not written' },
];

/** What most knots never do has no column of noughts. */
const onlyWhereCounted: ReadonlySet<string> = new Set(['archive', 'delete', 'write back']);

/** One change of a record that a run writes; the whole record where it has no single ones. */
interface ChangeRow {
  readonly id: string;
  readonly operation: PlannedOperation;
  readonly change: PlannedOperation['changes'][number] | undefined;
  /** Nothing is compared with what was not there before. */
  readonly isNew: boolean;
  /** What a record is told replaces whatever was there, and is all told for one reason. */
  readonly isTold: boolean;
  /** Over how many rows what is said of the record goes; `undefined` where a row before says it. */
  readonly span: number | undefined;
}

/** One run or dry run: how far it is, counts per system, and every single change as before and after. */
@Component({
  selector: 'ak-run-detail',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    Fold,
    ProblemText,
    MatButtonModule,
    MatFormFieldModule,
    MatInputModule,
    MatProgressBarModule,
    MatSelectModule,
    ReactiveFormsModule,
    RouterLink,
    RunCalls,
    RunSteps,
    ExactTimePipe,
    Pennant,
    State,
    Value,
  ],
  templateUrl: './runDetail.html',
  styleUrl: './runDetail.scss',
})
export class RunDetail {
  readonly run = input.required<string>();
  protected readonly areCallsShown = signal(false);
  protected readonly session = inject(SessionService);
  protected readonly runs = inject(StartRun);
  readonly #api = inject(RunsApi);
  readonly #live = inject(LiveEvents);
  protected readonly phases = phaseWords;
  protected readonly starterWords = starterWords;
  protected readonly plural = plural;
  protected readonly kinds = ['create', 'update', 'archive', 'delete', 'write back'];
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

  protected readonly filters = new FormGroup({
    member: new FormControl('', { nonNullable: true }),
    kind: new FormControl('', { nonNullable: true }),
    state: new FormControl('', { nonNullable: true }),
    search: new FormControl('', { nonNullable: true }),
  });
  readonly #query = signal<Record<string, string>>({});
  protected readonly operations = signal<readonly PlannedOperation[]>([]);
  protected readonly changeRows = computed(() => this.operations().flatMap(changesOf));
  protected readonly isWhole = (_: number, row: ChangeRow): boolean => row.change === undefined;
  protected readonly isFirst = (_: number, row: ChangeRow): boolean => row.span !== undefined;
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
      wanted: this.filters.valueChanges.pipe(startWith({})),
      changed,
    })
      .pipe(
        debounceTime(150),
        switchMap(({ run }) => {
          this.#query.set(filled(this.filters.getRawValue()));
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
    const asked = this.#query();
    this.#api.operations(this.run(), { ...asked, after: this.next() ?? '' }).subscribe({
      next: (page) => {
        // A late answer to another question is dropped.
        if (this.#query() !== asked) return;
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
    const counted = (key: (typeof columns)[number]['key']): boolean =>
      Object.values(run.progress?.tally ?? {}).some((tally) => tally[key] > 0);
    return columns.filter(
      ({ key, dry }) => (run.kind === 'run' || dry !== '') && (!onlyWhereCounted.has(key) || counted(key)),
    );
  }
  protected countColumns(run: Run): string[] {
    return ['system', ...this.shown(run).map(({ key }) => key)];
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

function changesOf(operation: PlannedOperation): ChangeRow[] {
  const isNew = operation.kind === 'create';
  const isTold = operation.kind === 'write back';
  const { id, changes } = operation;
  if (changes.length === 0) return [{ id, operation, change: undefined, isNew, isTold, span: 1 }];
  return changes.map((change, index) => ({
    id: `${id} ${change.field}`,
    operation,
    change,
    isNew,
    isTold,
    span: index === 0 ? changes.length : undefined,
  }));
}
