import {
  booleanAttribute,
  ChangeDetectionStrategy,
  Component,
  computed,
  effect,
  input,
  numberAttribute,
  output,
  signal,
} from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { type AbstractControl, FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';

/**
 * A text that is a setting by itself, taken as it is typed or when the field is left. What cannot be taken stays as it
 * was typed, with the reason below it, and changes nothing. Forms that are sent as a whole use Material's own field.
 */
@Component({
  selector: 'ak-text-field',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatFormFieldModule, MatInputModule],
  templateUrl: './textField.html',
  styleUrl: './field.scss',
})
export class TextField {
  readonly value = input.required<string | number | null | undefined>();
  /** Stands above the field. */
  readonly label = input('');
  /** What the field is called where no label stands above it, or where the label alone would not tell. */
  readonly name = input('');
  readonly placeholder = input('');
  readonly hint = input('');
  readonly longest = input(4000, { transform: numberAttribute });
  readonly rows = input(1, { transform: numberAttribute });
  readonly type = input<'text' | 'search' | 'url'>('text');
  /** Digits are offered first where a keyboard is drawn on the screen. */
  readonly numeric = input(false, { transform: booleanAttribute });
  /** Whether it holds what a system holds or is called by, in the font of values. */
  readonly asValue = input(false, { transform: booleanAttribute });
  readonly mayEdit = input(true);
  readonly mayBeEmpty = input(false, { transform: booleanAttribute });
  /** Whether every letter is taken at once. */
  readonly typed = input(false, { transform: booleanAttribute });
  /** Why a text cannot be taken, if so. */
  readonly refuses = input<(text: string) => string | undefined>(() => undefined);
  readonly changed = output<string>();

  protected readonly control = new FormControl('', { nonNullable: true });
  protected readonly reason = signal('');
  protected readonly called = computed(() => this.name() || null);
  protected readonly isWrong = { isErrorState: () => this.reason() !== '' };
  /** What the field and whoever set it agree on. */
  #known = '';

  constructor() {
    effect(() => {
      const value = String(this.value() ?? '');
      if (value === this.#known) return;
      this.#known = value;
      this.control.setValue(value, { emitEvent: false });
      this.reason.set('');
    });
    this.control.addValidators((control: AbstractControl<string>) => {
      const reason = this.#reasonOf(control.value);
      return reason === '' ? null : { reason };
    });
    this.control.valueChanges.pipe(takeUntilDestroyed()).subscribe((text) => {
      if (this.typed()) this.#take(text);
      // What was wrong may be right by now; what is not finished is not called wrong.
      else if (this.reason() !== '') this.reason.set(this.#reasonOf(text));
    });
  }

  protected leave(): void {
    this.#take(this.control.value);
  }

  #reasonOf(text: string): string {
    if (text.trim() === '') return this.mayBeEmpty() ? '' : 'It may not be empty.';
    return this.refuses()(text) ?? '';
  }

  #take(text: string): void {
    this.reason.set(this.#reasonOf(text));
    if (this.reason() !== '' || text === this.#known) return;
    this.#known = text;
    this.changed.emit(text);
  }
}
