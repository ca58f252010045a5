import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { type FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatAutocompleteModule } from '@angular/material/autocomplete';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { startWith, switchMap } from 'rxjs';

/** As many as are looked through at one glance; whoever types gets fewer. */
const shownZones = 40;

/** How the times of a system are read: the zone of those that name none, and its clock. */
@Component({
  selector: 'ak-times-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatAutocompleteModule, MatFormFieldModule, MatInputModule],
  templateUrl: './timesForm.html',
})
export class TimesForm {
  readonly zone = input.required<FormControl<string>>();
  /** In seconds, as text. */
  readonly ahead = input.required<FormControl<string>>();
  readonly #typed = toSignal(
    toObservable(this.zone).pipe(switchMap((control) => control.valueChanges.pipe(startWith(control.value)))),
    { initialValue: '' },
  );
  readonly #zones = ['UTC', ...Intl.supportedValuesOf('timeZone').filter((zone) => zone !== 'UTC')];
  protected readonly found = computed(() => {
    const words = this.#typed()
      .toLowerCase()
      .split(/[\s/_]+/)
      .filter(Boolean);
    return this.#zones.filter((zone) => words.every((word) => zone.toLowerCase().includes(word))).slice(0, shownZones);
  });
}
