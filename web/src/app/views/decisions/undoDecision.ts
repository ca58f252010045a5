import { inject, Injectable, signal } from '@angular/core';
import { MatSnackBar } from '@angular/material/snack-bar';
import { Subject } from 'rxjs';
import { Api, problemOf } from '../../api/api';

/** The last decision on a match that can be taken back. */
@Injectable({ providedIn: 'root' })
export class UndoDecision {
  readonly #api = inject(Api);
  readonly #snack = inject(MatSnackBar);
  readonly last = signal<{ readonly knot: string; readonly decision: string } | undefined>(undefined);
  /** The decision that is open again. */
  readonly undone = new Subject<string>();

  undo(): void {
    const last = this.last();
    if (!last) return;
    this.last.set(undefined);
    this.#api.undoDecision(last.knot, last.decision).subscribe({
      next: () => {
        window.dispatchEvent(new Event('anchor-knot-decided'));
        this.undone.next(last.decision);
      },
      error: (error: unknown) =>
        this.#snack.open(`It was not taken back: ${problemOf(error).says}`, 'Close', { duration: 12_000 }),
    });
  }
}
