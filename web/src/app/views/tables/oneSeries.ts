import {
  ChangeDetectionStrategy,
  Component,
  computed,
  effect,
  inject,
  input,
  linkedSignal,
  signal,
} from '@angular/core';
import { ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatPaginatorModule, type PageEvent } from '@angular/material/paginator';
import { RouterLink } from '@angular/router';
import { seriesText, yearOf } from '@anchor-knot/core';
import { map, of } from 'rxjs';
import { load } from '../../api/loaded';
import { LiveEvents } from '../../api/liveEvents';
import { SeriesApi } from '../../api/seriesApi';
import { SessionService } from '../../api/session';
import { KeptForm } from '../../fields/keptForm';
import { TextField } from '../../fields/textField';
import { ZoneField } from '../../fields/zoneField';
import { tableParts } from '../../tables/rows';
import { AgoTime } from '../../words/agoTime';
import { count, plural } from '../../words/sentences';
import { ListKeys } from '../listKeys';
import { ProblemText } from '../problem';
import { State } from '../state';
import { newSeries, type SeriesForm, seriesForm, seriesOf, type SetSeries } from './seriesForm';

/** One series: how its numbers look, what comes next, and which were given to what. */
@Component({
  selector: 'ak-one-series',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    AgoTime,
    ListKeys,
    MatButtonModule,
    MatCheckboxModule,
    MatFormFieldModule,
    MatInputModule,
    MatPaginatorModule,
    ProblemText,
    ReactiveFormsModule,
    RouterLink,
    State,
    TextField,
    ZoneField,
  ],
  templateUrl: './oneSeries.html',
  styleUrl: './oneSeries.scss',
})
export class OneSeries {
  readonly series = input.required<string>();
  readonly #api = inject(SeriesApi);
  readonly #live = inject(LiveEvents);
  protected readonly session = inject(SessionService);
  protected readonly count = count;
  protected readonly plural = plural;
  protected readonly kept = new KeptForm<SeriesForm, SetSeries>(
    {
      list: ['/tables/series'],
      kept: 'Kept; it holds from the next number on.',
      removed: 'It is gone.',
      role: 'editor',
    },
    seriesOf,
  );
  protected readonly isNew = computed(() => this.series() === 'new');
  protected readonly view = load(this.series, (id) =>
    this.#api.all().pipe(map((all) => ({ known: all.find((one) => one.id === id) }))),
  );
  protected readonly isAtEnd = computed(() => this.view.value()?.known?.nextText === null);
  /** The next number as it would look by what the form says. */
  protected readonly sample = computed(() => {
    const set = this.kept.set();
    return set && seriesText(set.series, yearOf(set.series, Date.now()), set.next);
  });

  protected readonly pageSize = 100;
  protected readonly sought = signal('');
  protected readonly page = linkedSignal({ source: this.sought, computation: () => 0 });
  readonly #question = computed(() => ({
    id: this.series(),
    query: { search: this.sought(), skip: this.page() * this.pageSize },
  }));
  protected readonly numbers = load(
    this.#question,
    ({ id, query }) => (id === 'new' ? of(undefined) : this.#api.numbers(id, query)),
    this.#live.ends,
  );

  constructor() {
    effect(() => {
      const view = this.view.value();
      if (!view || !(view.known || this.isNew())) return;
      const { known } = view;
      const value = known ? { series: known.series, next: known.next } : newSeries;
      this.kept.fill(`series ${this.series()}`, seriesForm(value), known && { revision: known.revision, value });
    });
  }

  protected save(form: SeriesForm): void {
    const id = this.isNew() ? undefined : this.series();
    // What another run took meanwhile is not set back by a form that was open.
    const sets = this.isNew() || form.controls.next.dirty;
    const keep = (name: string, { series, next }: SetSeries, revision: number) =>
      this.#api.keep(name, { series, revision, ...(sets ? { next } : {}) });
    this.kept.save(form, id, keep, () => {
      if (id === undefined) return;
      this.view.reload();
      this.numbers.reload();
    });
  }

  /** As it was last kept. */
  protected undo(): void {
    this.kept.forget();
    this.view.reload();
  }

  protected remove(name: string): void {
    this.kept.remove(name, () => this.#api.remove(this.series()));
  }

  protected turn({ pageIndex }: PageEvent): void {
    this.page.set(pageIndex);
  }
}
