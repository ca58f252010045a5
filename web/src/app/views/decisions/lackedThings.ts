import { ChangeDetectionStrategy, Component, computed, inject, input, output } from '@angular/core';
import { MatChipsModule } from '@angular/material/chips';
import { MatTooltip } from '@angular/material/tooltip';
import { merge } from 'rxjs';
import { DecisionsApi } from '../../api/decisionsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { count, plural } from '../../words/sentences';

/** For what do references wait? Those that wait for the same are shown with one choice. */
@Component({
  selector: 'ak-lacked-things',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatChipsModule, MatTooltip],
  templateUrl: './lackedThings.html',
  styleUrl: './lackedThings.scss',
})
export class LackedThings {
  readonly knot = input<string>();
  /** What the list of decisions is filtered by: a value, or the id of a thing. */
  readonly lacks = input<string>();
  /** Nothing where all are wanted again. */
  readonly chosen = output<string | undefined>();
  readonly #api = inject(DecisionsApi);
  readonly #live = inject(LiveEvents);
  protected readonly count = count;
  protected readonly plural = plural;
  protected readonly list = load(
    computed((): Record<string, string> => {
      const knot = this.knot();
      return knot ? { knot } : {};
    }),
    (query) => this.#api.lacked(query),
    merge(this.#live.ends, this.#live.decided),
  );
}
