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

const columns: readonly { readonly key: Exclude<keyof MemberTally, 'accounts'>; readonly dry: string; readonly done: string }[] = [
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
  template: `
    <ak-state [of]="view" />
    @if (view.value(); as loaded) {
      @let run = loaded.run.endedAt ? loaded.run : (live() ?? loaded.run);
      <p class="sentence" aria-live="polite"><strong>{{ sentence(run) }}</strong> <small>{{ run.kind }} by {{ run.startedBy }}, {{ run.startedAt | exactTime }}, version {{ run.knotVersion }}</small></p>
      @if (!run.endedAt) {
        <mat-progress-bar mode="indeterminate" aria-label="Running" />
        <p class="pad small">{{ run.progress ? phases[run.progress.phase] : 'Waiting for a worker' }}@if (run.progress && run.progress.done > 0) {: {{ run.progress.done.toLocaleString('en-GB') }}} @if (session.may('operator') && run.state === 'running') { <button mat-button type="button" (click)="stop(run.id)">Stop</button> }</p>
      }
      @if (run.state === 'stopped by a guard') {
        <div class="banner waits"><strong>Nothing was written: a guard was reached.</strong><small>{{ run.words }}. Look at a dry run to see every change; then let it pass, or change the guard.</small>
          @if (session.may('operator')) { <button mat-stroked-button type="button" (click)="runs.start(run.knot, 'run', { overGuards: true })">Run over the guards this once</button> }</div>
      } @else if (run.words && run.state !== 'succeeded in part') { <div class="banner"><strong>{{ run.words }}</strong></div> }
      @for (trouble of run.troubles; track $index) { <div class="banner"><strong>{{ trouble.words }}</strong><small>{{ trouble.advice }} Everything else went on.</small></div> }
      @if (run.progress; as progress) {
        <table class="plain counts">
          <caption class="hidden">Counts per system</caption>
          <thead><tr><th scope="col">System</th>@for (column of shown(run); track column.key) {<th scope="col" class="number">{{ run.kind === 'dry run' ? column.dry : column.done }}</th>}</tr></thead>
          <tbody>@for (member of loaded.members; track member.id) { <tr><th scope="row"><ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" /></th>@for (column of shown(run); track column.key) {<td class="number" [attr.data-count]="member.id + '-' + column.key">{{ (progress.tally[member.id]?.[column.key] ?? 0).toLocaleString('en-GB') }}</td>}</tr> }</tbody>
        </table>
      }
      <div class="filters">
        <label>System <select #member (change)="member$.next(member.value)"><option value="">all</option>@for (one of loaded.members; track one.id) {<option [value]="one.id">{{ one.systemName }}</option>}</select></label>
        <label>Kind <select #kind (change)="kind$.next(kind.value)"><option value="">all</option><option value="create">create</option><option value="update">update</option><option value="archive">archive</option><option value="delete">delete</option></select></label>
        <label>State <select #state (change)="state$.next(state.value)"><option value="">all</option>@for (one of states; track one) {<option [value]="one">{{ one }}</option>}</select></label>
        <label class="grow"><span class="hidden">Search by name or key</span><input #search type="search" placeholder="Name or key" (input)="search$.next(search.value)" /></label>
        <small>{{ total() === undefined ? '' : plural(total() ?? 0, 'record') }}</small>
      </div>
      @if (problem(); as problem) { <div class="banner" role="alert"><strong>{{ problem.says }}</strong><small>{{ problem.advice }}</small></div> }
      @else if (operations().length === 0 && run.endedAt && total() === 0) { <p class="empty">{{ run.kind === 'dry run' ? 'Nothing of that kind would be written.' : 'No record of that kind was to be written.' }}</p> }
      @else {
        <table class="plain changes">
          <caption class="hidden">Every change, before and after</caption>
          <thead><tr><th scope="col">Record</th><th scope="col">Field</th><th scope="col">Before</th><th scope="col">After</th><th scope="col">Why</th></tr></thead>
          @for (operation of operations(); track operation.id) {
            <tbody>
              @if (operation.changes.length === 0) {
                <tr>
                  <th scope="rowgroup">
                    @if (memberOf(operation.member); as member) { <ak-pennant [settings]="member.pennant" [name]="member.systemName" /> }&nbsp;<a [routerLink]="['/anchors', operation.anchor]">{{ operation.title }}</a><br />
                    <small>{{ operation.kind }} {{ operation.key }} · <span [class.wrong]="operation.state === 'refused'" [class.good]="operation.state === 'written'">{{ operation.state }}</span>@if (operation.words) {: {{ operation.words }}}</small>
                  </th>
                  <td colspan="4">the whole record</td>
                </tr>
              }
              @for (change of operation.changes; track change.field; let first = $first) {
                <tr>
                  @if (first) {
                    <th scope="rowgroup" [attr.rowspan]="operation.changes.length">
                      @if (memberOf(operation.member); as member) { <ak-pennant [settings]="member.pennant" [name]="member.systemName" /> }&nbsp;<a [routerLink]="['/anchors', operation.anchor]">{{ operation.title }}</a><br />
                      <small>{{ operation.kind }}@if (operation.key) { {{ operation.key }}} · <span [class.wrong]="operation.state === 'refused' || operation.state === 'gone'" [class.waits]="operation.state === 'raced' || operation.state === 'not done'" [class.good]="operation.state === 'written'">{{ operation.state }}</span>@if (operation.words) {: {{ operation.words }}}</small>
                    </th>
                  }
                  <td>{{ fieldName(change.field) }}</td>
                  <td><ak-value [value]="change.before" [against]="operation.kind === 'create' ? undefined : change.after" [blankAs]="operation.kind === 'create' ? 'new' : 'blank'" /></td>
                  <td><ak-value [value]="change.after" [against]="operation.kind === 'create' ? undefined : change.before" /></td>
                  <td class="small">{{ why(change.why) }}</td>
                </tr>
              }
            </tbody>
          }
        </table>
        @if (next()) { <p class="pad"><button mat-stroked-button type="button" (click)="more()">Show more</button></p> }
      }
    }
  `,
  styles: `
    .sentence { padding: 12px 22px; margin: 0; font-size: 15px; } .sentence small { margin-left: 8px; }
    .counts { width: auto; min-width: 70%; margin: 0 22px 6px; background: none; }
    .filters { display: flex; gap: 14px; align-items: center; padding: 8px 22px; border-bottom: 1px solid var(--hair); flex-wrap: wrap; } .grow { flex: 1; max-width: 280px; }
    select, input { font: inherit; color: inherit; background: var(--sheet); border: 1px solid var(--hair); border-radius: 3px; padding: 3px 6px; } input { width: 100%; }
    .changes { table-layout: fixed; } .changes th:first-child { width: 25%; } .changes th:nth-child(2) { width: 13%; } .changes td { padding: 4px 10px; } .changes tbody th { overflow-wrap: anywhere; border-right: 1px solid var(--hair-2); }
    .changes ak-pennant { margin-right: 6px; } .changes tbody { border-bottom: 1px solid var(--hair); }
  `,
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
    merge(this.#live.opened, this.#live.changes.pipe(filter((run) => run.id === this.run() && (run.endedAt !== null || this.view.value() === undefined)))),
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
    const filled = (values: Record<string, string>) => Object.fromEntries(Object.entries(values).filter(([, value]) => value !== ''));
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
    const removes = (key: 'archive' | 'delete'): boolean => Object.values(run.progress?.tally ?? {}).some((tally) => tally[key] > 0);
    return columns.filter(({ key, dry }) => (run.kind === 'run' || dry !== '') && ((key !== 'archive' && key !== 'delete') || removes(key)));
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
