import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { ReactiveFormsModule } from '@angular/forms';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import type { DaysForm } from './timingForm';
import { weekdays } from './timingWords';

/** Which days, and at what times of the day. */
@Component({
  selector: 'ak-on-days-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatFormFieldModule, MatInputModule, MatSelectModule],
  templateUrl: './onDaysForm.html',
})
export class OnDaysForm {
  readonly form = input.required<DaysForm>();
  protected readonly weekdays = weekdays;
  protected readonly monthDays = [...Array.from({ length: 31 }, (_, index) => index + 1), 'last'] as const;
}
