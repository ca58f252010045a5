import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { Router, RouterLink } from '@angular/router';
import { forkJoin, of } from 'rxjs';
import { KnotsApi } from '../../api/knotsApi';
import { RunsApi } from '../../api/runsApi';
import { Asking } from '../../api/asking';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { FileButton } from '../../fields/fileButton';
import { Telling } from '../../telling/telling';
import { Pennant } from '../../pennant/pennant';
import { count, plural } from '../../words/sentences';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { ProblemText } from '../problem';
import { AgoTime } from '../../words/agoTime';
import { KnotMap, type MappedKnot } from './knotMap';
import { tableParts } from '../../tables/rows';

/** Which kinds of thing are kept the same, and in which systems? */
@Component({
  selector: 'ak-knots-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    ProblemText,
    RouterLink,
    MatButtonModule,
    FileButton,
    Pennant,
    State,
    ListKeys,
    AgoTime,
    KnotMap,
  ],
  templateUrl: './knotsView.html',
  styleUrl: './knotsView.scss',
})
export class KnotsView {
  readonly #knotsApi = inject(KnotsApi);
  readonly #runsApi = inject(RunsApi);
  readonly #router = inject(Router);
  readonly #telling = inject(Telling);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly loaded = load(
    signal('now').asReadonly(),
    () => forkJoin([this.#runsApi.watch(), this.#knotsApi.knots()]),
    inject(LiveEvents).ends,
  );
  protected readonly count = count;
  protected readonly rows = computed(() => {
    const [watch, knots] = this.loaded.value() ?? [undefined, []];
    return knots.map((knot) => ({ ...knot, live: watch?.knots.find(({ id }) => id === knot.id) }));
  });

  readonly #states = computed(() => this.rows().flatMap(({ version, standing }) => (version > 0 ? [standing] : [])));
  protected readonly canPause = computed(() => this.#states().some(({ state }) => state === 'running'));
  protected readonly canTakeUp = computed(() => this.#states().some(({ pausedTogether }) => pausedTogether));

  protected readonly mapped = computed((): readonly MappedKnot[] =>
    this.rows().map(({ id, name, refersTo, live }) => ({
      id,
      name,
      refersTo,
      says: live ? `${count(live.anchors)} anchors` : 'not in force yet',
    })),
  );
  /** More than one runs: a knot alone is run where it is shown. */
  protected readonly canRun = computed(() => this.#states().filter(({ state }) => state === 'running').length > 1);

  protected runAll(): void {
    this.asking.ask(this.#runsApi.startTogether('run'), (runs) => {
      const nameOf = new Map(this.rows().map(({ id, name }) => [id, name]));
      const order = runs.map(({ knot }) => nameOf.get(knot) ?? knot);
      this.#telling.say(`${plural(runs.length, 'run')} started: ${order.join(', then ')}.`);
      void this.#router.navigate(['/runs']);
    });
  }

  protected setAll(state: 'running' | 'paused'): void {
    const confirmed =
      state === 'running'
        ? of(undefined)
        : this.#telling.confirm({
            title: 'Pause all knots?',
            says: 'Nothing runs until they are taken up again; a run that is under way ends first.',
            action: 'Pause all',
          });
    confirmed.subscribe(() =>
      this.asking.ask(this.#knotsApi.setAllStates(state), (changed) => {
        this.#telling.say(`${plural(changed, 'knot')} ${state === 'paused' ? 'paused' : 'taken up again'}.`);
        this.loaded.reload();
      }),
    );
  }

  protected open(file: File): void {
    void file.text().then((text) => {
      try {
        this.asking.ask(
          this.#knotsApi.importKnot(JSON.parse(text) as unknown),
          (knot) => void this.#router.navigate(['/knots', knot, 'members']),
        );
      } catch (error) {
        this.asking.problem.set({
          code: 'not JSON',
          says: `“${file.name}” is no JSON: ${error instanceof Error ? error.message : String(error)}`,
        });
      }
    });
  }
}
