import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import { type AbstractControl, FormControl, FormGroup, ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import { type Rows, rowsSchema, type System } from '@anchor-knot/contracts';
import { isFilled, isFree } from '../../fields/validators';
import { tableParts } from '../../tables/rows';

/** The lists in a system's records whose rows are records of their own: the lines of an order. */
@Component({
  selector: 'ak-row-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, MatButtonModule, MatFormFieldModule, MatInputModule, MatSelectModule, ReactiveFormsModule],
  templateUrl: './rowObjects.html',
  styleUrl: './rowObjects.scss',
})
export class RowObjects {
  readonly objects = input<System['objects']>({});
  readonly rows = input<Readonly<Record<string, Rows>>>({});
  readonly changed = output<Readonly<Record<string, Rows>>>();
  protected readonly owners = computed(() => Object.keys(this.objects()));
  protected readonly all = computed(() =>
    Object.entries(this.rows()).map(([name, { of, list, key }]) => ({ name, of, list, key: key.join(', ') })),
  );
  protected readonly form = new FormGroup({
    name: new FormControl('', {
      nonNullable: true,
      validators: [isFilled, isFree((name) => Object.hasOwn(this.objects(), name) || Object.hasOwn(this.rows(), name))],
    }),
    of: new FormControl('', { nonNullable: true, validators: isFilled }),
    list: new FormControl('', { nonNullable: true, validators: isFilled }),
    key: new FormControl('', {
      nonNullable: true,
      validators: ({ value }: AbstractControl<string>) => {
        const count = namesIn(value).length;
        return count >= 1 && count <= 5 ? null : { count: true };
      },
    }),
  });

  protected add(): void {
    this.form.markAllAsTouched();
    this.form.controls.name.updateValueAndValidity();
    if (this.form.invalid) return;
    const { name, of, list, key } = this.form.getRawValue();
    const rows = rowsSchema.parse({ of, list: list.trim(), key: namesIn(key) });
    this.form.reset();
    this.changed.emit({ ...this.rows(), [name.trim()]: rows });
  }

  protected remove(name: string): void {
    this.changed.emit(Object.fromEntries(Object.entries(this.rows()).filter(([other]) => other !== name)));
  }
}

function namesIn(text: string): string[] {
  return text
    .split(',')
    .map((name) => name.trim())
    .filter((name) => name !== '');
}
