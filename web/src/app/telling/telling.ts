import { inject, Injectable } from '@angular/core';
import { MatDialog } from '@angular/material/dialog';
import { MatSnackBar } from '@angular/material/snack-bar';
import { filter, map, type Observable } from 'rxjs';
import { problemOf } from '../api/problems';
import { Confirmation, type ConfirmationText } from './confirmation';

/** What asks for an answer stays until somebody could have read it and reached for the button. */
const actionMs = 12_000;
const plainMs = 6000;

/** All that the application tells by itself: what was done, with a way back where there is one, and what went wrong. */
@Injectable({ providedIn: 'root' })
export class Telling {
  readonly #snack = inject(MatSnackBar);
  readonly #dialog = inject(MatDialog);

  say(words: string): void {
    this.#snack.open(words, 'Close', { duration: plainMs });
  }

  /** @returns a signal each time that the person takes what is offered */
  offer(words: string, action: string): Observable<void> {
    return this.#snack.open(words, action, { duration: actionMs }).onAction();
  }

  /** @param words what did not happen, put before the reason */
  sayProblem(error: unknown, words = ''): void {
    const { says, advice } = problemOf(error);
    this.#snack.open([words, says, advice].filter(Boolean).join(' '), 'Close', { duration: actionMs });
  }

  /** Asks back before what cannot be undone; goes on only when the person agrees. */
  confirm(text: ConfirmationText): Observable<void> {
    return this.#dialog
      .open<Confirmation, ConfirmationText, boolean>(Confirmation, { data: text, maxWidth: 480, autoFocus: 'dialog' })
      .afterClosed()
      .pipe(
        filter((agreed) => agreed === true),
        map(() => undefined),
      );
  }
}
