import { ChangeDetectionStrategy, Component, effect, input, output } from '@angular/core';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import type { NewField } from '@anchor-knot/contracts';
import { isFilled } from './validators';

/** A field that is to be created in a system: its name, and a type that the system offers. */
@Component({
  selector: 'ak-new-field',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, MatFormFieldModule, MatInputModule, MatSelectModule, ReactiveFormsModule],
  templateUrl: './newFieldForm.html',
  styleUrl: './newFieldForm.scss',
})
export class NewFieldForm {
  readonly types = input.required<readonly NewField['type'][]>();
  /** What the form begins with. */
  readonly called = input('');
  readonly type = input('');
  readonly action = input.required<string>();
  readonly busy = input(false);
  readonly made = output<NewField>();
  protected readonly form = new FormGroup({
    name: new FormControl('', { nonNullable: true, validators: [isFilled, Validators.maxLength(100)] }),
    type: new FormControl<NewField['type']>('text', { nonNullable: true }),
  });

  constructor() {
    let filledFor = '';
    effect(() => {
      const [called, wanted] = [this.called(), this.type()];
      const type = this.types().find((offered) => offered === wanted) ?? this.types()[0];
      // What a person has typed stays, however often the types are told anew.
      if (this.form.dirty && filledFor === `${called} ${wanted}`) return;
      filledFor = `${called} ${wanted}`;
      this.form.reset({ name: called, ...(type ? { type } : {}) });
    });
  }

  protected make(): void {
    this.form.markAllAsTouched();
    if (this.form.invalid) return;
    const { name, type } = this.form.getRawValue();
    this.made.emit({ name: name.trim(), type });
  }
}
