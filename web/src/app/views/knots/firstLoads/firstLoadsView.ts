import { ChangeDetectionStrategy, Component, computed, inject, linkedSignal, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatStepperModule } from '@angular/material/stepper';
import { Router, RouterLink } from '@angular/router';
import type { FirstLoad, FirstLoads } from '@anchor-knot/contracts';
import { asyncScheduler, throttleTime } from 'rxjs';
import { Asking } from '../../../api/asking';
import { KnotsApi } from '../../../api/knotsApi';
import { LiveEvents } from '../../../api/liveEvents';
import { load } from '../../../api/loaded';
import { RunsApi } from '../../../api/runsApi';
import { SessionService } from '../../../api/session';
import { Telling } from '../../../telling/telling';
import { count, plural } from '../../../words/sentences';
import { ProblemText } from '../../problem';
import { State } from '../../state';
import { FirstLoadStep } from './firstLoadStep';

/** Runs under way tell how far they are several times a second. */
const renewMs = 1500;

/** Setting everything up: each knot in its turn is tried, looked at, and loaded, while the view may be left. */
@Component({
  selector: 'ak-first-loads-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, MatStepperModule, RouterLink, ProblemText, State, FirstLoadStep],
  templateUrl: './firstLoadsView.html',
  styleUrl: './firstLoadsView.scss',
})
export class FirstLoadsView {
  readonly #knotsApi = inject(KnotsApi);
  readonly #runsApi = inject(RunsApi);
  readonly #telling = inject(Telling);
  protected readonly session = inject(SessionService);
  protected readonly router = inject(Router);
  protected readonly asking = new Asking();
  protected readonly plural = plural;
  protected readonly count = count;
  protected readonly loaded = load(
    signal('now').asReadonly(),
    () => this.#knotsApi.firstLoads(),
    inject(LiveEvents).anything.pipe(throttleTime(renewMs, asyncScheduler, { leading: true, trailing: true })),
  );
  protected readonly steps = computed(() => this.loaded.value()?.steps ?? []);
  protected readonly drafts = computed(() => this.loaded.value()?.drafts ?? []);
  protected readonly done = computed(() => this.steps().filter(({ firstRun }) => firstRun).length);
  protected readonly nameOf = computed(() => new Map(this.steps().map(({ knot, name }) => [knot, name])));
  /** Where a person goes on: the first step that is not done, as it was when the view was opened. */
  protected readonly first = linkedSignal<FirstLoads | undefined, number>({
    source: () => this.loaded.value(),
    computation: (loads, before) => {
      if (before?.source) return before.value;
      return Math.max(0, loads?.steps.findIndex(({ firstRun }) => !firstRun) ?? 0);
    },
  });
  readonly #left = computed(() => this.steps().filter(({ firstRun, state }) => !firstRun && state === 'running'));
  protected readonly canTry = computed(() => this.steps().some(({ openRun }) => !openRun));
  protected readonly left = computed(() => this.#left().length);

  /** The names of those before it that are not loaded yet. */
  protected missingBefore({ after }: FirstLoad): readonly string[] {
    return this.steps().flatMap(({ knot, name, firstRun }) => (after.includes(knot) && !firstRun ? [name] : []));
  }

  protected says({ firstRun, openRun, anchors, lastRun, dryRun, state }: FirstLoad): string {
    if (openRun?.state === 'waiting') return 'waits for its turn';
    if (openRun) return openRun.kind === 'dry run' ? 'is tried now' : firstRun ? 'runs now' : 'is loaded now';
    if (firstRun) return `loaded · ${count(anchors)} anchors`;
    if (state !== 'running') return state;
    if (lastRun?.endedAt) return `not loaded: ${lastRun.state}`;
    return dryRun?.endedAt ? 'tried, not loaded yet' : 'not tried yet';
  }

  protected tryAll(): void {
    this.#start(
      'dry run',
      this.steps().map(({ knot }) => knot),
    );
  }

  protected loadAll(): void {
    this.#start(
      'run',
      this.#left().map(({ knot }) => knot),
    );
  }

  #start(kind: 'run' | 'dry run', knots: readonly string[]): void {
    this.asking.ask(this.#runsApi.startTogether(kind, knots), (runs) => {
      const what = plural(runs.length, kind === 'run' ? 'run' : 'dry run');
      this.#telling.say(`${what} started, one after the other. You can leave this page.`);
      this.loaded.reload();
    });
  }
}
