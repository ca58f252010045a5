import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import { load } from '../../api/loaded';
import { LiveEvents } from '../../api/liveEvents';
import { SeriesApi } from '../../api/seriesApi';
import { SessionService } from '../../api/session';
import { tableParts } from '../../tables/rows';
import { count } from '../../words/sentences';
import { ListKeys } from '../listKeys';
import { State } from '../state';

/** Where do running numbers come from, and which comes next? */
@Component({
  selector: 'ak-series-list',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, ListKeys, MatButtonModule, RouterLink, State],
  templateUrl: './seriesList.html',
  styleUrl: './substitutes.scss',
})
export class SeriesList {
  readonly sought = input('');
  readonly #api = inject(SeriesApi);
  protected readonly session = inject(SessionService);
  protected readonly count = count;
  protected readonly list = load(
    computed(() => 'now'),
    () => this.#api.all(),
    inject(LiveEvents).ends,
  );
  protected readonly rows = computed(() => {
    const text = this.sought().trim().toLowerCase();
    const all = this.list.value() ?? [];
    return all
      .filter(({ series }) => `${series.name} ${series.prefix}`.toLowerCase().includes(text))
      .map((one) => ({
        ...one,
        users: one.usedBy.map(({ fieldName, knotName }) => `${fieldName} of ${knotName}`).join(', '),
      }));
  });
}
