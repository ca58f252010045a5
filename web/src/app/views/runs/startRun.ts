import { inject, Injectable } from '@angular/core';
import { Router } from '@angular/router';
import { RunsApi, type StartOptions } from '../../api/runsApi';
import { Telling } from '../../telling/telling';

/** Starts a run from anywhere and leads to it. */
@Injectable({ providedIn: 'root' })
export class StartRun {
  readonly #api = inject(RunsApi);
  readonly #router = inject(Router);
  readonly #telling = inject(Telling);

  /** The section of a knot where its dry run is shown. */
  open(knot: string): void {
    void this.#router.navigate(['/knots', knot, 'dry-run']);
  }

  start(knot: string, kind: 'run' | 'dry run', more: StartOptions = {}, then?: (run: string) => void): void {
    this.#api.startRun(knot, kind, more).subscribe({
      next: (run) => (then ? then(run) : void this.#router.navigate(['/runs', run])),
      error: (error: unknown) => this.#telling.sayProblem(error),
    });
  }
}
