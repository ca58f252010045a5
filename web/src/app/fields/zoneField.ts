import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { type FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatAutocompleteModule } from '@angular/material/autocomplete';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { startWith, switchMap } from 'rxjs';

/** As many as are looked through at one glance; whoever types gets fewer. */
const shownZones = 40;

/** A time zone of the IANA database, found by any part of its name. */
@Component({
  selector: 'ak-zone-field',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatAutocompleteModule, MatFormFieldModule, MatInputModule],
  templateUrl: './zoneField.html',
  styleUrl: './field.scss',
})
export class ZoneField {
  readonly control = input.required<FormControl<string>>();
  readonly label = input('Time zone');
  readonly #typed = toSignal(
    toObservable(this.control).pipe(switchMap((control) => control.valueChanges.pipe(startWith(control.value)))),
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
