import type { AbstractControl, ValidationErrors, ValidatorFn } from '@angular/forms';

/** Something other than blanks was typed. */
export function isFilled(control: AbstractControl<string>): ValidationErrors | null {
  return control.value.trim() === '' ? { empty: true } : null;
}

/** A name that nothing else has. @param isTaken is asked for the name without blanks at its ends */
export function isFree(isTaken: (name: string) => boolean): ValidatorFn {
  return ({ value }: AbstractControl<string>) => (isTaken(value.trim()) ? { taken: true } : null);
}
