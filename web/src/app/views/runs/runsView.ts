import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { Run, Watch } from '@anchor-knot/contracts';
import { forkJoin, throttleTime } from 'rxjs';
import { RunsApi } from '../../api/runsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { ListKeys } from '../listKeys';
import { runSentence } from '../../words/sentences';
import { State } from '../state';
import { AgoTime } from '../../words/agoTime';
import { tableParts } from '../../tables/rows';

/** What happened, and when? */
@Component({
  selector: 'ak-runs-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, RouterLink, MatButtonModule, State, ListKeys, AgoTime],
  templateUrl: './runsView.html',
  styles: `.whole { white-space: nowrap; }`,
})
export class RunsView {
  readonly #api = inject(RunsApi);
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
