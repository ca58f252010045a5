import { ScrollingModule } from '@angular/cdk/scrolling';
import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed, toObservable } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { AnchorList, Problem } from '@anchor-knot/contracts';
import { catchError, debounceTime, of, Subject, switchMap } from 'rxjs';
import { Api, problemOf } from '../../api/api';
import { load } from '../../api/loaded';
import { Pennant } from '../../pennant/pennant';
import { count, plural } from '../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../words/times';
import { ListKeys } from '../listKeys';
import { State } from '../state';

type Row = AnchorList['anchors'][number];

/** Every real-world thing that is kept the same; any number of them, searched on the server. */
@Component({
  selector: 'ak-anchors-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ScrollingModule, Pennant, State, ListKeys, AgoPipe, ExactTimePipe],
  template: `
    <div class="page">
      <header><h1>Anchors</h1><small>{{ plural(total(), 'anchor') }}</small>
        <div class="acts">
          @if (knots().length > 1) { <label>Knot <select #knot (change)="go({ knot: knot.value })">@for (one of knots(); track one.id) {<option [value]="one.id" [selected]="one.id === current()?.id">{{ one.name }}</option>}</select></label> }
          <label><span class="hidden">Search by name or record key</span><input #box type="search" placeholder="Name or record key" [value]="search() ?? ''" (input)="typed.next(box.value)" /></label>
          <label>Show <select #which (change)="go({ state: which.value === 'all' ? null : which.value })"><option value="all" [selected]="state() !== 'open'">all</option><option value="open" [selected]="state() === 'open'">those that do not agree</option></select></label>
        </div>
      </header>
      <ak-state [of]="watch" />
      @if (problem(); as problem) { <div class="banner" role="alert"><strong>{{ problem.says }}</strong></div> }
      @if (rows().length === 0 && !loading() && watch.value()) { <p class="empty">{{ search() || state() ? 'No anchor is called that.' : 'Nothing is tied yet. After the first run, each customer is listed here with its records.' }}</p> }
      <cdk-virtual-scroll-viewport itemSize="35" class="list" akListKeys (scrolledIndexChange)="reached($event)">
        <div class="row" *cdkVirtualFor="let row of rows(); trackBy: byId">
          <span class="mark" [class.waits]="!row.agrees && row.decisions > 0" [class.none]="!row.agrees && row.decisions === 0"></span>
          <a class="title" data-item [routerLink]="['/anchors', row.id]">{{ row.title || 'without a name' }}</a>
          <span class="ties">@for (member of current()?.members; track member.id) { <span class="tie">@if (tieOf(row, member.id); as tie) { <ak-pennant [settings]="member.pennant" [name]="member.systemName" /> <span class="value" [class.quiet]="tie.gone">{{ tie.key }}{{ tie.gone ? ' gone' : '' }}</span> }</span> }</span>
          <small class="state">{{ row.agrees ? 'agrees' : row.decisions > 0 ? row.decisions + (row.decisions === 1 ? ' decision' : ' decisions') : 'to be written' }}</small>
          <small class="when" [title]="row.changedAt | exactTime">{{ row.changedAt | ago }}</small>
        </div>
      </cdk-virtual-scroll-viewport>
    </div>
  `,
  styles: `
    .list { flex: 1; background: var(--sheet); } .row { display: flex; align-items: center; gap: 8px; height: 35px; padding: 0 22px; border-bottom: 1px solid var(--hair-2); }
    .title { flex: 0 0 27%; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-weight: 600; color: var(--ink); text-decoration: none; } .title:hover { text-decoration: underline; }
    .ties { flex: 1; display: flex; gap: 8px; min-width: 0; } .tie { flex: 1 1 0; max-width: 190px; min-width: 0; display: inline-flex; gap: 6px; align-items: center; white-space: nowrap; overflow: hidden; } .state { flex: 0 0 84px; } .when { flex: 0 0 76px; text-align: right; }
    .mark { margin: 0; } select, input { font: inherit; color: inherit; background: var(--sheet); border: 1px solid var(--hair); border-radius: 3px; padding: 4px 7px; } input { width: 230px; } label { color: var(--ink-2); }
  `,
})
export class AnchorsView {
  /** From the address. */
  readonly knot = input<string>();
  readonly search = input<string>();
  readonly state = input<string>();
  readonly #api = inject(Api);
  readonly #router = inject(Router);
  protected readonly watch = load(signal('knots').asReadonly(), () => this.#api.watch());
  protected readonly knots = computed(() => this.watch.value()?.knots ?? []);
  protected readonly current = computed(() => this.knots().find(({ id }) => id === this.knot()) ?? this.knots()[0]);
  protected readonly rows = signal<readonly Row[]>([]);
  protected readonly total = signal(0);
  protected readonly loading = signal(true);
  protected readonly problem = signal<Problem | undefined>(undefined);
  protected readonly typed = new Subject<string>();
  protected readonly plural = plural;
  protected readonly count = count;
  #next: string | null = null;
  readonly #question = computed(() => ({
    knot: this.current()?.id,
    query: { ...(this.search() ? { search: this.search() as string } : {}), state: this.state() === 'open' ? 'open' : 'all' },
  }));

  constructor() {
    this.typed.pipe(debounceTime(250), takeUntilDestroyed()).subscribe((search) => this.go({ search: search || null }));
    toObservable(this.#question)
      .pipe(
        switchMap(({ knot, query }) => {
          if (!knot) return of(undefined);
          this.loading.set(true);
          return this.#api.anchors(knot, query).pipe(
            catchError((error: unknown) => {
              this.problem.set(problemOf(error));
              return of(undefined);
            }),
          );
        }),
        takeUntilDestroyed(),
      )
      .subscribe((page) => {
        if (!page) return;
        this.loading.set(false);
        this.problem.set(undefined);
        this.rows.set(page.anchors);
        this.total.set(page.total);
        this.#next = page.next;
      });
  }

  /** Filters live in the address. */
  protected go(queryParams: Record<string, string | null>): void {
    void this.#router.navigate([], { queryParams, queryParamsHandling: 'merge', replaceUrl: true });
  }

  /** The next page is asked for before the end of the list is reached. */
  protected reached(index: number): void {
    const { knot, query } = this.#question();
    const last = this.rows().at(-1);
    if (!knot || !last || this.#next === null || this.loading() || index < this.rows().length - 45) return;
    this.loading.set(true);
    this.#api.anchors(knot, { ...query, afterTitle: last.title, afterId: last.id }).subscribe({
      next: (page) => {
        this.rows.update((rows) => [...rows, ...page.anchors]);
        this.#next = page.next;
        this.loading.set(false);
      },
      error: (error: unknown) => {
        this.problem.set(problemOf(error));
        this.loading.set(false);
      },
    });
  }

  protected readonly byId = (_: number, row: Row): string => row.id;
  protected tieOf(row: Row, member: string) {
    return row.ties.find((tie) => tie.member === member);
  }
}
