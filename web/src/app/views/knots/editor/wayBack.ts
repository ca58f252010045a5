import { ChangeDetectionStrategy, Component, computed, inject, input, output } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { debounceTime, map, of, switchMap } from 'rxjs';
import { MatButtonModule } from '@angular/material/button';
import type { Step } from '@anchor-knot/core';
import { TrialService } from './trialService';

type FormulaStep = Extract<Step, { kind: 'formula' }>;
const waitMs = 200;

/**
 * Of a formula for one way: the one for the other way, where it can be derived and is not there already, or why it
 * cannot.
 */
@Component({
  selector: 'ak-way-back',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  templateUrl: './wayBack.html',
  styles: `p { margin: 4px 0 0; overflow-wrap: anywhere; }`,
})
export class WayBack {
  readonly step = input.required<FormulaStep>();
  readonly taken = output<FormulaStep>();
  readonly #trials = inject(TrialService);
  /** The way to be derived, and the formula of the other. */
  readonly #asked = computed(() => {
    const { inbound, outbound } = this.step();
    if (inbound !== undefined) return { way: 'outbound' as const, source: inbound };
    return outbound === undefined ? undefined : { way: 'inbound' as const, source: outbound };
  });
  readonly #derived = toSignal(
    toObservable(this.#asked).pipe(
      debounceTime(waitMs),
      switchMap((asked) =>
        asked
          ? this.#trials.inverse(asked.source).pipe(map((outcome) => ({ way: asked.way, outcome })))
          : of(undefined),
      ),
    ),
  );
  protected readonly found = computed(() => {
    const derived = this.#derived();
    const there = derived && this.step()[derived.way];
    const isSaid = there === undefined || (derived?.outcome.ok === true && derived.outcome.value !== there);
    return isSaid ? derived : undefined;
  });

  protected take(): void {
    const found = this.found();
    if (found?.outcome.ok) this.taken.emit({ ...this.step(), [found.way]: found.outcome.value });
  }
}
