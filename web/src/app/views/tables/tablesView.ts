import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { RouterLink } from '@angular/router';
import { forkJoin, map, of, switchMap } from 'rxjs';
import { KnotsApi } from '../../api/knotsApi';
import { load } from '../../api/loaded';
import { count } from '../../words/sentences';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { SeriesList } from './seriesList';
import { Substitutes } from './substitutes';
import { tablesOf } from './tablesOf';

import { TextField } from '../../fields/textField';
import { tableParts } from '../../tables/rows';
/** Which tables translate values between systems, and where are they used? */
@Component({
  selector: 'ak-tables-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, TextField, RouterLink, SeriesList, State, Substitutes, ListKeys],
  templateUrl: './tablesView.html',
  styleUrl: './tablesView.scss',
})
export class TablesView {
  readonly #api = inject(KnotsApi);
  protected readonly count = count;
  protected readonly sought = signal('');
  protected readonly drafts = load(signal('now').asReadonly(), () =>
    this.#api
      .knots()
      .pipe(
        switchMap((knots) =>
          knots.length === 0
            ? of([])
            : forkJoin(
                knots.map(({ id }) =>
                  this.#api.draft(id).pipe(map(({ definition, revision }) => ({ definition, isDraft: revision > 0 }))),
                ),
              ),
        ),
      ),
  );
  protected readonly rows = computed(() => tablesOf(this.drafts.value() ?? [], this.sought()));
}
