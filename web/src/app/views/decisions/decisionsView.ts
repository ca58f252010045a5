import { ScrollingModule, CdkVirtualScrollViewport } from '@angular/cdk/scrolling';
import {
  afterNextRender,
  ChangeDetectionStrategy,
  Component,
  computed,
  effect,
  ElementRef,
  inject,
  Injector,
  input,
  signal,
  untracked,
  viewChild,
} from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { Router, RouterLink } from '@angular/router';
import type { Decision, DecisionList, MemberSummary } from '@anchor-knot/contracts';
import { merge, of } from 'rxjs';
import { Asking } from '../../api/asking';
import { DecisionsApi } from '../../api/decisionsApi';
import { KnotsApi } from '../../api/knotsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { SystemsApi } from '../../api/systemsApi';
import { type Choice, ChoiceField } from '../../fields/choiceField';
import { Keys } from '../../keys/keys';
import { count, kindWords, plural } from '../../words/sentences';
import { State } from '../state';
import { DecisionActs } from './decisionActs';
import { DecisionPanel } from './decisionPanel';
import { Handling } from './handling';
import { LackedThings } from './lackedThings';
import { ProblemText } from '../problem';
import { AgoTime } from '../../words/agoTime';
import { WholeText } from '../../values/wholeText';

const ages: readonly Choice[] = [
  { value: '', says: 'of any age' },
  { value: '1', says: 'older than a day' },
  { value: '7', says: 'older than a week' },
  { value: '30', says: 'older than a month' },
];
const lists: readonly Choice[] = [
  { value: '', says: 'what waits' },
  { value: 'mine', says: 'given to me' },
  { value: 'put off', says: 'put off' },
];
/** So many rows before the end of the list the next page is asked for. */
const askedAhead = 30;

/** What waits for a person, in the order that it matters? A list at the left, and the one that is looked at. */
@Component({
  selector: 'ak-decisions-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ProblemText,
    MatButtonModule,
    MatCheckboxModule,
    RouterLink,
    ScrollingModule,
    ChoiceField,
    DecisionPanel,
    Handling,
    LackedThings,
    State,
    AgoTime,
    WholeText,
  ],
  templateUrl: './decisionsView.html',
  styleUrl: './decisionsView.scss',
})
export class DecisionsView {
  /** From the address: filters, and the one that is looked at. */
  readonly kind = input<string>();
  readonly knot = input<string>();
  readonly system = input<string>();
  readonly field = input<string>();
  readonly reason = input<string>();
  readonly lacks = input<string>();
  readonly days = input<string>();
  readonly list = input<string>();
  readonly decision = input<string>();
  readonly #api = inject(DecisionsApi);
  readonly #router = inject(Router);
  readonly #injector = inject(Injector);
  readonly #live = inject(LiveEvents);
  readonly #host = inject<ElementRef<HTMLElement>>(ElementRef).nativeElement;
  protected readonly acts = inject(DecisionActs);
  protected readonly session = inject(SessionService);
  private readonly viewport = viewChild(CdkVirtualScrollViewport);
  protected readonly kindWords = kindWords;
  protected readonly count = count;
  protected readonly plural = plural;
  protected readonly ages = ages;
  protected readonly lists = lists;

  readonly #question = computed(
    () => {
      const { kind, knot, system, field, reason, lacks, days, list } = this;
      const where = { kind: kind(), knot: knot(), system: system(), field: field() };
      const asked = { ...where, reason: reason(), lacks: lacks(), days: days(), list: list() };
      return Object.fromEntries(Object.entries(asked).filter(([, value]) => value)) as Record<string, string>;
    },
    { equal: (before, now) => JSON.stringify(before) === JSON.stringify(now) },
  );
  protected readonly first = load(
    this.#question,
    (query) => this.#api.decisions(query),
    merge(this.#live.ends, this.#live.decided),
  );
  protected readonly isFiltered = computed(() => Object.keys(this.#question()).length > 0);
  /** What was loaded of the list so far. */
  protected readonly items = signal<readonly Decision[]>([]);
  readonly #members = signal<DecisionList['members']>({});
  readonly #next = signal<string | null>(null);
  protected readonly more = new Asking();
  #shownFor: unknown;
  /** Whether more than the first page was loaded. */
  #hasMore = false;
  /** One that was to be focused while the list was on its way. */
  #focusWhenThere = '';

  protected readonly ticked = signal<ReadonlySet<string>>(new Set());
  protected readonly tickedOnes = computed(() => this.items().filter(({ id }) => this.ticked().has(id)));
  protected readonly chosenId = signal('');
  /** One that the address names and that stands in another list. */
  readonly #elsewhere = computed(() => {
    const named = this.decision() ?? '';
    return this.first.value() && named === this.chosenId() && !this.items().some(({ id }) => id === named) ? named : '';
  });
  readonly #outside = load(this.#elsewhere, (id) => (id === '' ? of(undefined) : this.#api.decision(id)));
  protected readonly chosen = computed(
    () => this.items().find(({ id }) => id === this.chosenId()) ?? this.#outside.value()?.decision,
  );

  protected readonly kindChoices = computed((): Choice[] => [
    { value: '', says: `every kind · ${count(this.all())}` },
    ...(this.first.value()?.kinds ?? []).map((one) => ({
      value: one.kind,
      says: `${count(one.count)} ${kindWords(one.kind, one.count)}`,
    })),
  ]);
  protected readonly all = computed(() => this.first.value()?.kinds.reduce((sum, one) => sum + one.count, 0) ?? 0);
  readonly #knotsApi = inject(KnotsApi);
  readonly #systemsApi = inject(SystemsApi);
  readonly #knots = load(signal('now').asReadonly(), () => this.#knotsApi.knots());
  readonly #systems = load(signal('now').asReadonly(), () => this.#systemsApi.systems());
  protected readonly knotChoices = computed((): Choice[] => [
    { value: '', says: 'every knot' },
    ...(this.#knots.value() ?? []).flatMap(({ id, name, version }) => (version > 0 ? [{ value: id, says: name }] : [])),
  ]);
  protected readonly systemChoices = computed((): Choice[] => [
    { value: '', says: 'every system' },
    ...(this.#systems.value() ?? []).map(({ id, name }) => ({ value: id, says: name })),
  ]);
  protected readonly fieldChoices = computed((): Choice[] => [
    { value: '', says: 'every field' },
    ...(this.first.value()?.fields ?? []).map(({ id, name }) => ({ value: id, says: name })),
  ]);

  constructor() {
    inject(Keys).register([
      { key: 'j', says: 'next in the list', act: () => this.step(1) },
      { key: 'k', says: 'previous in the list', act: () => this.step(-1) },
      { key: 'x', says: 'tick the one that is looked at', act: () => this.tick(this.chosenId()) },
      { key: 'u', says: 'take the last decision back', act: () => this.acts.undo() },
    ]);
    this.acts.undone.pipe(takeUntilDestroyed()).subscribe(([name]) => {
      if (!name) return;
      this.look(name.decision);
      this.#focus(name.decision);
    });
    effect(() => {
      const loaded = this.first.value();
      if (loaded) untracked(() => this.#take(loaded));
    });
  }

  /** The first page anew; of a list of which more was loaded, only the numbers. */
  #take(loaded: DecisionList): void {
    const keepsMore = this.#shownFor === this.#question() && this.#hasMore;
    this.#shownFor = this.#question();
    if (!keepsMore) {
      this.#hasMore = false;
      this.items.set(loaded.decisions);
      this.#next.set(loaded.next);
    }
    this.#members.update((before) => ({ ...before, ...loaded.members }));
    const wanted = this.#focusWhenThere;
    if (wanted !== '') {
      this.#focus(wanted);
      this.#focusWhenThere = '';
    }
    const ids = new Set(this.items().map(({ id }) => id));
    this.ticked.update((ticked) => new Set([...ticked].filter((id) => ids.has(id))));
    if (this.chosenId() === '') this.chosenId.set(this.decision() ?? this.items()[0]?.id ?? '');
    else if (!this.chosen() && this.#elsewhere() === '') this.look(this.items()[0]?.id ?? '');
  }

  protected reached(index: number): void {
    const after = this.#next();
    if (after === null || this.more.busy() || index < this.items().length - askedAhead) return;
    const asked = this.#question();
    this.more.ask(this.#api.decisions({ ...asked, after }), ({ decisions, next, members }) => {
      // A late answer to another question is dropped.
      if (this.#question() !== asked) return;
      this.#hasMore = true;
      this.items.update((known) => [...known, ...decisions]);
      this.#members.update((known) => ({ ...known, ...members }));
      this.#next.set(next);
    });
  }

  protected membersOf = ({ knot }: Pick<Decision, 'knot'>): readonly MemberSummary[] =>
    this.#members()[knot] ?? this.#outside.value()?.members ?? [];

  /** Filters live in the address. */
  protected go(queryParams: Record<string, string | null>): void {
    void this.#router.navigate([], {
      queryParams: { ...queryParams, decision: null },
      queryParamsHandling: 'merge',
      replaceUrl: true,
    });
    this.chosenId.set('');
    this.ticked.set(new Set());
  }

  protected look(id: string): void {
    this.acts.forgetProblem();
    this.chosenId.set(id);
    void this.#router.navigate([], {
      queryParams: { decision: id || null },
      queryParamsHandling: 'merge',
      replaceUrl: true,
    });
  }

  protected step(by: number): void {
    const items = this.items();
    const place = items.findIndex(({ id }) => id === this.chosenId());
    const next = items[place < 0 ? 0 : Math.min(items.length - 1, Math.max(0, place + by))];
    if (!next) return;
    this.look(next.id);
    this.viewport()?.scrollToIndex(Math.max(0, items.indexOf(next) - 3));
    this.#focus(next.id);
  }

  /** As soon as it is drawn: after the list came anew it may take a moment. */
  #focus(id: string): void {
    const find = () => this.#host.querySelector<HTMLElement>(`[data-decision-item="${id}"]`);
    afterNextRender(() => find()?.focus(), { injector: this.#injector });
    this.#focusWhenThere = id;
  }

  protected tick(id: string): void {
    this.ticked.update((ticked) => {
      const now = new Set(ticked);
      if (!now.delete(id)) now.add(id);
      return now;
    });
  }
  protected tickAll(all: boolean): void {
    this.ticked.set(new Set(all ? this.items().map(({ id }) => id) : []));
  }

  /** What was settled leaves the list at once; the one that stood below it is looked at. */
  protected settled(ids: readonly string[]): void {
    const items = this.items();
    const place = items.findIndex(({ id }) => ids.includes(id));
    const left = items.filter(({ id }) => !ids.includes(id));
    this.items.set(left);
    this.ticked.set(new Set());
    if (!ids.includes(this.chosenId())) return;
    const next = left[Math.min(place, left.length - 1)]?.id ?? '';
    this.look(next);
    this.#focus(next);
  }
  protected readonly byId = (_: number, { id }: Decision): string => id;
}
