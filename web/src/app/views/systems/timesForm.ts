import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { type FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { ZoneField } from '../../fields/zoneField';

/** How the times of a system are read: the zone of those that name none, and its clock. */
@Component({
  selector: 'ak-times-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatFormFieldModule, MatInputModule, ZoneField],
  templateUrl: './timesForm.html',
})
export class TimesForm {
  readonly zone = input.required<FormControl<string>>();
  /** In seconds, as text. */
  readonly ahead = input.required<FormControl<string>>();
}
