import type { AbstractControl, ValidationErrors } from '@angular/forms';

/** Something other than blanks was typed. */
export function isFilled(control: AbstractControl<string>): ValidationErrors | null {
  return control.value.trim() === '' ? { empty: true } : null;
}
