import { ChangeDetectionStrategy, Component, inject } from '@angular/core';
import { FormControl, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MAT_DATE_LOCALE, provideNativeDateAdapter } from '@angular/material/core';
import { MatDatepickerModule } from '@angular/material/datepicker';
import { MatDialogModule, MatDialogRef } from '@angular/material/dialog';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';

const morning = 8;

/** A day until which decisions are put off. Closes with its morning, in the reader's zone. */
@Component({
  selector: 'ak-put-off-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    MatButtonModule,
    MatDatepickerModule,
    MatDialogModule,
    MatFormFieldModule,
    MatInputModule,
    ReactiveFormsModule,
  ],
  providers: [provideNativeDateAdapter(), { provide: MAT_DATE_LOCALE, useValue: 'en-GB' }],
  templateUrl: './putOffDialog.html',
})
export class PutOffDialog {
  readonly #dialog = inject<MatDialogRef<PutOffDialog, Date>>(MatDialogRef);
  protected readonly first = tomorrow();
  protected readonly day = new FormControl<Date | null>(null, { validators: [Validators.required] });

  protected close(): void {
    this.day.markAsTouched();
    const until = this.day.value;
    if (!until) return;
    until.setHours(morning, 0, 0, 0);
    this.#dialog.close(until);
  }
}

function tomorrow(): Date {
  const day = new Date();
  day.setDate(day.getDate() + 1);
  day.setHours(0, 0, 0, 0);
  return day;
}
