import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { RouterLink } from '@angular/router';
import { forkJoin, map, of, switchMap } from 'rxjs';
import { Api } from '../../api/api';
import { load } from '../../api/loaded';
import { count } from '../../words/sentences';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { tablesOf } from './tablesOf';

/** Which tables translate values between systems, and where are they used? */
@Component({
  selector: 'ak-tables-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, State, ListKeys],
  template: `
    <div class="page">
      <header><h1>Tables</h1><small>Crosswalks of all knots. A crosswalk belongs to a knot and is put in force with it.</small></header>
      <ak-state [of]="drafts" />
      @if (drafts.value()) {
        <div class="tools"><input type="search" placeholder="Search names and values" aria-label="Search the tables" #search [value]="sought()" (input)="sought.set(search.value)" /></div>
        @if (rows().length === 0) {
          <p class="empty">{{ sought() ? 'No table has that name or such a value.' : 'There is no crosswalk yet. Where systems have other words for the same choice, a knot gets one, and it is listed here.' }}</p>
        } @else {
          <table class="plain" akListKeys>
            <thead><tr><th scope="col">Crosswalk</th><th scope="col">Knot</th><th scope="col">Used by</th><th scope="col" class="number">Shared values</th><th scope="col" class="number">Values there</th><th scope="col">State</th></tr></thead>
            <tbody>@for (row of rows(); track row.knot + row.id) { <tr>
              <th scope="row"><a [routerLink]="['/knots', row.knot, 'crosswalks']" [fragment]="row.id"><strong>{{ row.name }}</strong></a>@if (row.found) {<small class="block value">{{ row.found }}</small>}</th>
              <td><a [routerLink]="['/knots', row.knot, 'fields']">{{ row.knotName }}</a></td>
              <td>{{ row.usedBy || 'no field' }}</td>
              <td class="number">{{ count(row.shared) }}</td>
              <td class="number">{{ count(row.values) }}</td>
              <td>@if (row.isDraft) {<span class="waits">in a draft</span>} @else {in force}</td>
            </tr> }</tbody>
          </table>
        }
      }
    </div>
  `,
  styles: `.tools { padding: 10px 22px; } .tools input { width: 280px; } .block { display: block; font-weight: 400; }`,
})
export class TablesView {
  readonly #api = inject(Api);
  protected readonly count = count;
  protected readonly sought = signal('');
  protected readonly drafts = load(signal('now').asReadonly(), () =>
    this.#api
      .knots()
      .pipe(
        switchMap((knots) =>
          knots.length === 0 ? of([]) : forkJoin(knots.map(({ id }) => this.#api.draft(id).pipe(map(({ definition, revision }) => ({ definition, isDraft: revision > 0 }))))),
        ),
      ),
  );
  protected readonly rows = computed(() => tablesOf(this.drafts.value() ?? [], this.sought()));
}
