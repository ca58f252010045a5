import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { Router, RouterLink } from '@angular/router';
import { forkJoin } from 'rxjs';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Pennant } from '../../pennant/pennant';
import { count } from '../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../words/times';
import { ListKeys } from '../listKeys';
import { State } from '../state';

/** Which kinds of thing are kept the same, and in which systems? */
@Component({
  selector: 'ak-knots-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, MatButtonModule, Pennant, State, ListKeys, AgoPipe, ExactTimePipe],
  template: `
    <div class="page">
      <header><h1>Knots</h1>
        @if (session.may('editor')) { <div class="acts"><label class="file mdc-button">Open a knot file<input type="file" class="hidden" accept=".json,application/json" (change)="open($event)" /></label><a mat-flat-button routerLink="/knots/new">New knot</a></div> }
      </header>
      <ak-state [of]="loaded" />
      @if (asking.problem(); as problem) { <div class="banner" role="alert"><b>{{ problem.says }}</b> {{ problem.advice }}@for (one of problem.problems?.slice(0, 8) ?? []; track $index) {<small><span class="value">{{ one.at }}</span> {{ one.says }}</small>}</div> }
      @if (loaded.value()) {
        @if (rows().length === 0) { <p class="empty">No knot is tied yet. Each kind of thing that is kept the same in several systems will be listed here.@if (session.may('editor')) { <br /><br /><a mat-flat-button routerLink="/knots/new">New knot</a>}</p> } @else {
          <table class="plain" akListKeys>
            <thead><tr><th scope="col">Knot</th><th scope="col">Members</th><th scope="col" class="number">Anchors</th><th scope="col" class="number">Agree</th><th scope="col">Last run</th><th scope="col">Draft</th></tr></thead>
            <tbody>@for (knot of rows(); track knot.id) { <tr>
              <th scope="row"><a [routerLink]="['/knots', knot.id, 'fields']"><strong>{{ knot.name }}</strong></a></th>
              @if (knot.live; as live) {
                <td>@for (member of live.members; track member.id) {<span class="member"><ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" /> <small>{{ member.object }}</small></span>}</td>
                <td class="number">{{ count(live.anchors) }}</td><td class="number">{{ count(live.agree) }}</td>
                <td class="run">@if (live.lastRun; as run) {<a [routerLink]="['/runs', run.id]" [title]="run.startedAt | exactTime">{{ run.startedAt | ago }}</a> <small>{{ run.state }}</small>} @else {<span class="quiet">never ran</span>}</td>
              } @else { <td colspan="4" class="waits">not in force yet</td> }
              <td>@if (knot.draft; as draft) {<span [title]="draft.changedAt | exactTime">{{ draft.changedBy }}, {{ draft.changedAt | ago }}</span>} @else {<span class="quiet">—</span>}</td>
            </tr> }</tbody>
          </table>
        }
      }
    </div>
  `,
  styles: `.run { white-space: nowrap; } .member { display: inline-flex; gap: 6px; align-items: center; margin-right: 20px; } td > small { margin-left: 7px; } .file { color: var(--petrol); font-weight: 600; cursor: pointer; padding: 5px 10px; } .file:focus-within { outline: 2px solid var(--petrol); }`,
})
export class KnotsView {
  readonly #api = inject(Api);
  readonly #router = inject(Router);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly loaded = load(signal('now').asReadonly(), () => forkJoin([this.#api.watch(), this.#api.knots()]), inject(LiveEvents).ends);
  protected readonly count = count;
  protected readonly rows = computed(() => {
    const [watch, knots] = this.loaded.value() ?? [undefined, []];
    return knots.map((knot) => ({ ...knot, live: watch?.knots.find(({ id }) => id === knot.id) }));
  });

  protected open(event: Event): void {
    const input = event.target as HTMLInputElement;
    const [file] = input.files ?? [];
    void file?.text().then((text) => {
      try {
        this.asking.ask(this.#api.importKnot(JSON.parse(text) as unknown), (knot) => void this.#router.navigate(['/knots', knot, 'members']));
      } catch (error) {
        this.asking.problem.set({ code: 'not JSON', says: `“${file.name}” is no JSON: ${error instanceof Error ? error.message : String(error)}` });
      }
    });
    input.value = '';
  }
}
