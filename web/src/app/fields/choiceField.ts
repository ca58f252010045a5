import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatSelectModule } from '@angular/material/select';

/** One of several to choose from. */
export interface Choice<Value extends string | number = string> {
  readonly value: Value;
  readonly says: string;
  /** Stands in the list, and cannot be chosen now. */
  readonly isOff?: boolean;
}

/** A choice that is a setting by itself, taken at once. Forms that are sent as a whole use Material's own field. */
@Component({
  selector: 'ak-choice-field',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatFormFieldModule, MatSelectModule],
  templateUrl: './choiceField.html',
  styleUrl: './field.scss',
})
export class ChoiceField<Value extends string | number> {
  readonly value = input.required<Value | undefined>();
  readonly choices = input.required<readonly Choice<Value>[]>();
  /** Stands above the field. */
  readonly label = input('');
  /** What the field is called where no label stands above it, or where the label alone would not tell. */
  readonly name = input('');
  readonly placeholder = input('');
  readonly mayEdit = input(true);
  readonly changed = output<Value>();
  protected readonly called = computed(() => this.name() || this.label());
}

/** Texts that are their own words. */
export const choicesOf = <Value extends string>(values: readonly Value[]): Choice<Value>[] =>
  values.map((value) => ({ value, says: value }));
