import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { RouterLink } from '@angular/router';
import { Api } from '../../api/api';
import { LiveRuns } from '../../api/liveRuns';
import { load } from '../../api/loaded';
import { Pennant } from '../../pennant/pennant';
import { count } from '../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../words/times';
import { ListKeys } from '../listKeys';
import { State } from '../state';

/** Which kinds of thing are kept the same, and in which systems? */
@Component({
  selector: 'ak-knots-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, Pennant, State, ListKeys, AgoPipe, ExactTimePipe],
  template: `
    <div class="page">
      <header><h1>Knots</h1></header>
      <ak-state [of]="watch" />
      @if (watch.value(); as now) {
        @if (now.knots.length === 0) { <p class="empty">No knot is tied yet. Each kind of thing that is kept the same in several systems will be listed here.</p> } @else {
          <table class="plain" akListKeys>
            <thead><tr><th scope="col">Knot</th><th scope="col">Members</th><th scope="col" class="number">Anchors</th><th scope="col" class="number">Agree</th><th scope="col">Last run</th></tr></thead>
            <tbody>@for (knot of now.knots; track knot.id) { <tr>
              <th scope="row"><a [routerLink]="['/knots', knot.id, 'fields']"><strong>{{ knot.name }}</strong></a></th>
              <td>@for (member of knot.members; track member.id) {<span class="member"><ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" /> <small>{{ member.object }}</small></span>}</td>
              <td class="number">{{ count(knot.anchors) }}</td><td class="number">{{ count(knot.agree) }}</td>
              <td>@if (knot.lastRun; as run) {<a [routerLink]="['/runs', run.id]" [title]="run.startedAt | exactTime">{{ run.startedAt | ago }}</a> <small>{{ run.state }}</small>} @else {<span class="quiet">never ran</span>}</td>
            </tr> }</tbody>
          </table>
        }
      }
    </div>
  `,
  styles: `.member { display: inline-flex; gap: 6px; align-items: center; margin-right: 20px; } td > small { margin-left: 7px; }`,
})
export class KnotsView {
  readonly #api = inject(Api);
  protected readonly watch = load(signal('now').asReadonly(), () => this.#api.watch(), inject(LiveRuns).ends);
  protected readonly count = count;
}
