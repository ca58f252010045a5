import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatAutocompleteModule } from '@angular/material/autocomplete';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { ActivatedRoute, RouterLink } from '@angular/router';
import { type KnotView, type ListedRecord, type RecordAct, recordListSchema } from '@anchor-knot/contracts';
import { catchError, debounceTime, map, of, switchMap } from 'rxjs';
import { AnchorsApi } from '../../../api/anchorsApi';
import { KnotsApi } from '../../../api/knotsApi';
import { Asking } from '../../../api/asking';
import { LiveEvents } from '../../../api/liveEvents';
import { load } from '../../../api/loaded';
import { SessionService } from '../../../api/session';
import { Pennant } from '../../../pennant/pennant';
import { Telling } from '../../../telling/telling';
import { count } from '../../../words/sentences';
import { State } from '../../state';
import { recordLists, unacknowledgedList } from './recordLists';
import { ProblemText } from '../../problem';
import { tableParts } from '../../../tables/rows';

const searchDelayMs = 250;

/** In which list is each record that was read, and what can be done about it? */
@Component({
  selector: 'ak-knot-records',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ProblemText,
    MatAutocompleteModule,
    MatButtonModule,
    MatFormFieldModule,
    MatInputModule,
    ...tableParts,
    Pennant,
    ReactiveFormsModule,
    RouterLink,
    State,
  ],
  templateUrl: './knotRecords.html',
  styleUrl: './knotRecords.css',
})
export class KnotRecords {
  readonly knot = input.required<KnotView>();
  readonly #anchorsApi = inject(AnchorsApi);
  readonly #knotsApi = inject(KnotsApi);
  readonly #live = inject(LiveEvents);
  readonly #telling = inject(Telling);
  readonly #session = inject(SessionService);
  readonly #query = toSignal(inject(ActivatedRoute).queryParamMap, { requireSync: true });
  protected readonly lists = recordLists;
  protected readonly awaited = unacknowledgedList;
  protected readonly count = count;
  protected readonly columns = ['key', 'title', 'why', 'acts'];
  protected readonly accountColumns = computed(() => [
    'member',
    'read',
    'tied',
    ...recordLists.map(({ id }) => id),
    ...(this.areAwaited() ? [unacknowledgedList.id] : []),
  ]);
  protected readonly asking = new Asking();
  readonly #knotId = computed(() => this.knot().id);
  protected readonly accounts = load(this.#knotId, (id) => this.#knotsApi.accounts(id), this.#live.ends);
  protected readonly areAwaited = computed(
    () => this.accounts.value()?.members.some(({ unacknowledged }) => unacknowledged.count > 0) === true,
  );

  /** The list that the address names. */
  protected readonly shown = computed(() => {
    const member = this.#query().get('member');
    const list = recordListSchema.safeParse(this.#query().get('list'));
    return member !== null && list.success ? { member, list: list.data } : undefined;
  });
  readonly #question = computed(() => ({ knot: this.#knotId(), shown: this.shown() }), {
    equal: (before, now) => JSON.stringify(before) === JSON.stringify(now),
  });
  protected readonly first = load(
    this.#question,
    ({ knot, shown }) => (shown ? this.#knotsApi.listedRecords(knot, shown) : of({ records: [], next: null })),
    this.#live.ends,
  );
  protected readonly records = linkedSignal<readonly ListedRecord[]>(() => this.first.value()?.records ?? []);
  protected readonly next = linkedSignal<string | null>(() => this.first.value()?.next ?? null);
  protected readonly choosing = linkedSignal<unknown, ListedRecord | undefined>({
    source: this.shown,
    computation: () => undefined,
  });
  protected readonly search = new FormControl('', { nonNullable: true });
  protected readonly candidates = toSignal(
    this.search.valueChanges.pipe(
      debounceTime(searchDelayMs),
      switchMap((text) => (text.trim() === '' ? of([]) : this.#search(text))),
    ),
    { initialValue: [] },
  );
  protected readonly titleOfList = computed(() => {
    const shown = this.shown();
    const says = [...recordLists, unacknowledgedList].find(({ id }) => id === shown?.list)?.says ?? '';
    return shown ? `Records of ${this.nameOf(shown.member)} ${says}` : '';
  });

  protected mayAct(): boolean {
    return this.#session.may('operator');
  }
  protected summaryOf(member: string) {
    return this.knot().members.find(({ id }) => id === member);
  }
  protected nameOf(member: string): string {
    return this.summaryOf(member)?.systemName ?? member;
  }
  protected isShown(member: string, list: string): boolean {
    return this.shown()?.member === member && this.shown()?.list === list;
  }
  protected readonly byKey = (_: number, { key }: ListedRecord): string => key;

  protected more(): void {
    const shown = this.shown();
    const after = this.next();
    if (!shown || after === null) return;
    this.asking.ask(this.#knotsApi.listedRecords(this.#knotId(), { ...shown, after }), ({ records, next }) => {
      // A late answer for another list is dropped.
      if (!this.isShown(shown.member, shown.list)) return;
      this.records.update((known) => [...known, ...records]);
      this.next.set(next);
    });
  }

  protected act(record: ListedRecord, act: RecordAct['act']): void {
    const shown = this.shown();
    if (!shown) return;
    this.asking.ask(this.#knotsApi.actOnRecord(this.#knotId(), shown.member, record.key, act), ({ anchor }) => {
      this.#leave(record);
      const says = { start: 'It starts a thing of its own', 'set aside': 'It is set aside', 'take back': 'It is back' };
      this.#telling.say(`${record.title}: ${says[act]}${anchor === null ? '' : '; the next run merges it'}.`);
    });
  }

  protected choose(record: ListedRecord): void {
    this.search.setValue('');
    this.choosing.set(record);
  }

  protected tie(anchor: string): void {
    const shown = this.shown();
    const record = this.choosing();
    if (!shown || !record) return;
    this.asking.ask(this.#anchorsApi.tie(anchor, shown.member, record.key), () => {
      this.choosing.set(undefined);
      this.#leave(record);
      this.#telling.say(`${record.title} is tied; the next run merges it.`);
    });
  }

  #search(text: string) {
    return this.#anchorsApi.anchors(this.#knotId(), { search: text }).pipe(
      map(({ anchors }) => anchors.slice(0, 20)),
      catchError(() => of([])),
    );
  }

  #leave({ key }: ListedRecord): void {
    this.records.update((known) => known.filter((record) => record.key !== key));
    this.accounts.reload();
  }
}
