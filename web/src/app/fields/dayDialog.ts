import { ChangeDetectionStrategy, Component, inject } from '@angular/core';
import { FormControl, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MAT_DATE_LOCALE, provideNativeDateAdapter } from '@angular/material/core';
import { MatDatepickerModule } from '@angular/material/datepicker';
import { MAT_DIALOG_DATA, MatDialogModule, MatDialogRef } from '@angular/material/dialog';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';

/** What a day is asked for. */
export interface DayQuestion {
  readonly title: string;
  /** Stands on the button. */
  readonly action: string;
  /** Of the day, in the reader's zone. */
  readonly hour: number;
}

/** A day from tomorrow on. Closes with an hour of it, in the reader's zone. */
@Component({
  selector: 'ak-day-dialog',
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
  templateUrl: './dayDialog.html',
})
export class DayDialog {
  readonly #dialog = inject<MatDialogRef<DayDialog, Date>>(MatDialogRef);
  protected readonly question = inject<DayQuestion>(MAT_DIALOG_DATA);
  protected readonly first = tomorrow();
  protected readonly day = new FormControl<Date | null>(null, { validators: [Validators.required] });

  protected close(): void {
    this.day.markAsTouched();
    const until = this.day.value;
    if (!until) return;
    until.setHours(this.question.hour, 0, 0, 0);
    this.#dialog.close(until);
  }
}

function tomorrow(): Date {
  const day = new Date();
  day.setDate(day.getDate() + 1);
  day.setHours(0, 0, 0, 0);
  return day;
}
