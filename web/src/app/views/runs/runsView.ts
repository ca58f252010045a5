import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { Run, Watch } from '@anchor-knot/contracts';
import { forkJoin, throttleTime } from 'rxjs';
import { Api } from '../../api/api';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { ListKeys } from '../listKeys';
import { runSentence } from '../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../words/times';
import { State } from '../state';

/** What happened, and when? */
@Component({
  selector: 'ak-runs-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, MatButtonModule, State, ListKeys, AgoPipe, ExactTimePipe],
  template: `
    <div class="page">
      <header><h1>Runs</h1></header>
      <ak-state [of]="runs" />
      @if (runs.value(); as loaded) {
        <div class="scroll" style="overflow: auto">
          @if (loaded[0].runs.length === 0) { <p class="empty">Nothing has run yet. <a routerLink="/watch">Start a dry run from Watch</a>: it writes nothing.</p> } @else {
            <table class="plain" akListKeys>
              <thead><tr><th scope="col">Started</th><th scope="col">Knot</th><th scope="col">Kind</th><th scope="col">What came of it</th><th scope="col">State</th><th scope="col" class="number">Took</th><th scope="col">By</th></tr></thead>
              <tbody>
                @for (run of loaded[0].runs; track run.id) {
                  <tr>
                    <td class="whole"><a [routerLink]="['/runs', run.id]" [title]="run.startedAt | exactTime">{{ run.startedAt | ago }}</a></td>
                    <td>{{ nameOf(run, loaded[1]) }}</td><td class="whole">{{ run.kind }}</td><td>{{ sentence(run, loaded[1]) }}@if (run.words) {<br /><small>{{ run.words }}</small>}</td>
                    <td [class.wrong]="run.state === 'failed'" [class.waits]="run.state !== 'succeeded' && run.state !== 'failed'">{{ run.state }}</td><td class="number whole">{{ took(run) }}</td><td class="whole">{{ run.startedBy }}</td>
                  </tr>
                }
              </tbody>
            </table>
            @if (loaded[0].next; as next) { <p class="pad"><a mat-stroked-button routerLink="/runs" [queryParams]="{ before: next }">Older runs</a></p> }
          }
        </div>
      }
    </div>
  `,
  styles: `.whole { white-space: nowrap; }`,
})
export class RunsView {
  readonly #api = inject(Api);
  /** Only runs before this time, from the address. */
  readonly before = input<string>();
  readonly #question = computed(() => this.before() ?? '');
  protected readonly now = signal(Date.now());
  protected readonly runs = load(
    this.#question,
    (before) => forkJoin([this.#api.runs(before ? { before } : {}), this.#api.watch()]),
    inject(LiveEvents).anything.pipe(throttleTime(1000, undefined, { leading: true, trailing: true })),
  );

  protected nameOf(run: Run, watch: Watch): string {
    return watch.knots.find(({ id }) => id === run.knot)?.name ?? run.knot;
  }
  protected sentence(run: Run, watch: Watch): string {
    return runSentence(run, watch.knots.find(({ id }) => id === run.knot)?.members ?? []);
  }
  protected took(run: Run): string {
    if (!run.endedAt) return '';
    const seconds = (Date.parse(run.endedAt) - Date.parse(run.startedAt)) / 1000;
    return seconds < 60 ? `${seconds.toFixed(1)} s` : `${Math.floor(seconds / 60)} min ${Math.round(seconds % 60)} s`;
  }
}
