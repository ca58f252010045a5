import { ScrollingModule } from '@angular/cdk/scrolling';
import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed, toObservable } from '@angular/core/rxjs-interop';
import { Router, RouterLink } from '@angular/router';
import type { AnchorList, Problem } from '@anchor-knot/contracts';
import { debounceTime, EMPTY, of, retry, Subject, switchMap, timer } from 'rxjs';
import { AnchorsApi } from '../../api/anchorsApi';
import { RunsApi } from '../../api/runsApi';
import { isAway, problemOf } from '../../api/problems';
import { askAgainMs, load } from '../../api/loaded';
import { type Choice, ChoiceField } from '../../fields/choiceField';
import { TextField } from '../../fields/textField';
import { Pennant } from '../../pennant/pennant';
import { count, plural } from '../../words/sentences';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { ProblemText } from '../problem';
import { AgoTime } from '../../words/agoTime';

type Row = AnchorList['anchors'][number];

/** Every real-world thing that is kept the same; any number of them, searched on the server. */
@Component({
  selector: 'ak-anchors-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ProblemText, RouterLink, ScrollingModule, ChoiceField, TextField, Pennant, State, ListKeys, AgoTime],
  templateUrl: './anchorsView.html',
  styleUrl: './anchorsView.scss',
})
export class AnchorsView {
  /** From the address. */
  readonly knot = input<string>();
  readonly search = input<string>();
  readonly state = input<string>();
  readonly #anchorsApi = inject(AnchorsApi);
  readonly #runsApi = inject(RunsApi);
  readonly #router = inject(Router);
  protected readonly watch = load(signal('knots').asReadonly(), () => this.#runsApi.watch());
  protected readonly knots = computed(() => this.watch.value()?.knots ?? []);
  protected readonly current = computed(() => this.knots().find(({ id }) => id === this.knot()) ?? this.knots()[0]);
  protected readonly rows = signal<readonly Row[]>([]);
  protected readonly total = signal(0);
  protected readonly isMore = signal(false);
  protected readonly knotChoices = computed(() =>
    this.knots().map(({ id, name }): Choice => ({ value: id, says: name })),
  );
  protected readonly states: readonly Choice<'all' | 'open'>[] = [
    { value: 'all', says: 'all' },
    { value: 'open', says: 'those that do not agree' },
  ];
  protected readonly loading = signal(true);
  protected readonly problem = signal<Problem | undefined>(undefined);
  protected readonly typed = new Subject<string>();
  protected readonly plural = plural;
  protected readonly count = count;
  #next: string | null = null;
  readonly #question = computed(() => ({
    knot: this.current()?.id,
    query: {
      ...(this.search() ? { search: this.search() as string } : {}),
      state: this.state() === 'open' ? 'open' : 'all',
    },
  }));

  constructor() {
    this.typed.pipe(debounceTime(250), takeUntilDestroyed()).subscribe((search) => this.go({ search: search || null }));
    toObservable(this.#question)
      .pipe(
        switchMap(({ knot, query }) => {
          if (!knot) return of(undefined);
          this.loading.set(true);
          return this.#anchorsApi.anchors(knot, query).pipe(
            retry({
              delay: (error: unknown) => {
                this.problem.set(problemOf(error));
                this.loading.set(false);
                return isAway(error) ? timer(askAgainMs) : EMPTY;
              },
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
        this.isMore.set(page.isMore);
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
    this.#anchorsApi.anchors(knot, { ...query, afterTitle: last.title, afterId: last.id }).subscribe({
      next: (page) => {
        // A late answer to another question is dropped.
        if (this.#question().knot !== knot || this.#question().query !== query) return;
        this.problem.set(undefined);
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
