import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { Router, RouterLink } from '@angular/router';
import type { Run, Watch } from '@anchor-knot/contracts';
import { forkJoin, throttleTime } from 'rxjs';
import { RunsApi } from '../../api/runsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { ListKeys } from '../listKeys';
import { runSentence, starterWords } from '../../words/sentences';
import { State } from '../state';
import { AgoTime } from '../../words/agoTime';
import { tableParts } from '../../tables/rows';

/** What happened, and when? */
@Component({
  selector: 'ak-runs-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, RouterLink, MatButtonModule, MatCheckboxModule, State, ListKeys, AgoTime],
  templateUrl: './runsView.html',
  styles: `.whole { white-space: nowrap; }`,
})
export class RunsView {
  readonly #api = inject(RunsApi);
  /** Only runs before this time, from the address. */
  readonly before = input<string>();
  /** Whether runs that nobody started, and that found nothing, are shown too; from the address. */
  readonly quiet = input<string>();
  readonly #router = inject(Router);
  protected readonly isQuietShown = computed(() => this.quiet() === 'true');
  readonly #question = computed((): Record<string, string> => {
    const [before, quiet] = [this.before(), this.quiet()];
    return { ...(before ? { before } : {}), ...(quiet ? { quiet } : {}) };
  });
  protected readonly starterWords = starterWords;
  protected readonly now = signal(Date.now());
  protected readonly runs = load(
    this.#question,
    (question) => forkJoin([this.#api.runs(question), this.#api.watch()]),
    inject(LiveEvents).anything.pipe(throttleTime(1000, undefined, { leading: true, trailing: true })),
  );

  protected showQuiet(isShown: boolean): void {
    void this.#router.navigate([], { queryParams: { quiet: isShown || null, before: null } });
  }
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
