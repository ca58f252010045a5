import { ChangeDetectionStrategy, Component, inject } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormControl, FormGroup, ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MAT_DIALOG_DATA, MatDialogModule, MatDialogRef } from '@angular/material/dialog';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import type { Colleague } from '@anchor-knot/contracts';
import { catchError, of } from 'rxjs';
import { DecisionsApi } from '../../api/decisionsApi';

export interface GivenTo {
  /** Null takes it back. */
  readonly to: Colleague | null;
  readonly note: string;
}

/** A colleague who is asked to look at decisions, and what is said to them. */
@Component({
  selector: 'ak-give-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, MatDialogModule, MatFormFieldModule, MatInputModule, MatSelectModule, ReactiveFormsModule],
  templateUrl: './giveDialog.html',
  styles: `mat-form-field { display: block; width: 320px; margin-bottom: 8px; }`,
})
export class GiveDialog {
  readonly #dialog = inject<MatDialogRef<GiveDialog, GivenTo>>(MatDialogRef);
  protected readonly before = inject<GivenTo>(MAT_DIALOG_DATA);
  protected readonly people = toSignal(
    inject(DecisionsApi)
      .colleagues()
      .pipe(catchError(() => of([]))),
    { initialValue: [] as readonly Colleague[] },
  );
  protected readonly form = new FormGroup({
    email: new FormControl(this.before.to?.email ?? '', { nonNullable: true }),
    note: new FormControl(this.before.note, { nonNullable: true }),
  });

  protected close(): void {
    const { email, note } = this.form.getRawValue();
    this.#dialog.close({ to: this.people().find((person) => person.email === email) ?? null, note: note.trim() });
  }
}
