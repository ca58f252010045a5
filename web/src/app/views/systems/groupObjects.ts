import { ChangeDetectionStrategy, Component, computed, effect, inject, input, output, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormControl, FormGroup, ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import { type Figure, type GroupObject, groupObjectSchema, type System } from '@anchor-knot/contracts';
import type { FieldType } from '@anchor-knot/core';
import { isFilled, isFree } from '../../fields/validators';
import { tableParts } from '../../tables/rows';
import { ReferenceTargets } from '../knots/editor/referenceTargets';

const control = <Value>(value: Value) => new FormControl<Value>(value, { nonNullable: true });
const required = () => new FormControl('', { nonNullable: true, validators: isFilled });
const comparedTypes: ReadonlySet<FieldType> = new Set(['number', 'date', 'instant']);

/** What things of a knot have in common, as objects: a group for each value of a field, counted and added up. */
@Component({
  selector: 'ak-group-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, MatButtonModule, MatFormFieldModule, MatInputModule, MatSelectModule, ReactiveFormsModule],
  providers: [ReferenceTargets],
  templateUrl: './groupObjects.html',
  styleUrl: './groupObjects.scss',
})
export class GroupObjects {
  readonly objects = input<System['objects']>({});
  readonly changed = output<System['objects']>();
  protected readonly targets = inject(ReferenceTargets);
  readonly #objects = computed(() => this.objects() as Readonly<Record<string, GroupObject>>);
  /** The name of the one that is being changed; none while another one is made. */
  protected readonly changing = signal<string | undefined>(undefined);
  protected readonly form = new FormGroup({
    name: new FormControl('', {
      nonNullable: true,
      validators: [isFilled, isFree((name) => name !== this.changing() && Object.hasOwn(this.#objects(), name))],
    }),
    of: required(),
    by: required(),
    total: control<readonly string[]>([]),
    least: control<readonly string[]>([]),
    greatest: control<readonly string[]>([]),
  });
  readonly #of = toSignal(this.form.controls.of.valueChanges, { initialValue: '' });
  protected readonly fields = computed(() => this.targets.definitions()[this.#of()]?.fields ?? []);
  /** What can be told of each group, by how it is made of the things in it. */
  protected readonly figures = computed(() => {
    const numbers = this.fields().filter(({ type }) => type === 'number');
    const compared = this.fields().filter(({ type }) => comparedTypes.has(type));
    return [
      { how: 'total', says: 'Added up', fields: numbers },
      { how: 'least', says: 'Least of', fields: compared },
      { how: 'greatest', says: 'Greatest of', fields: compared },
    ] as const;
  });
  protected readonly rows = computed(() =>
    Object.entries(this.#objects()).map(([name, object]) => ({
      name,
      of: this.#knotName(object.of),
      by: this.#fieldName(object.of, object.by),
      figures: [
        'how many',
        ...Object.values(object.figures).map(({ field, how }) => `${how} of ${this.#fieldName(object.of, field)}`),
      ].join(', '),
    })),
  );

  constructor() {
    this.targets.load();
    // What a knot and its fields are called is known once it was loaded.
    effect(() => {
      for (const knot of [this.#of(), ...Object.values(this.#objects()).map(({ of }) => of)]) this.targets.know(knot);
    });
  }

  /** Other fields belong to another knot. */
  protected choose(knot: string): void {
    this.form.patchValue({ of: knot, by: '', total: [], least: [], greatest: [] });
  }

  protected change(name: string): void {
    const object = this.#objects()[name];
    if (!object) return;
    const fieldsOf = (how: Figure['how']): string[] =>
      Object.values(object.figures).flatMap((figure) => (figure.how === how ? [figure.field] : []));
    this.changing.set(name);
    this.form.setValue({
      ...{ name, of: object.of, by: object.by },
      ...{ total: fieldsOf('total'), least: fieldsOf('least'), greatest: fieldsOf('greatest') },
    });
  }

  protected leave(): void {
    this.changing.set(undefined);
    this.form.reset();
  }

  protected keep(): void {
    this.form.markAllAsTouched();
    this.form.controls.name.updateValueAndValidity();
    if (this.form.invalid) return;
    const { name, of, by, ...chosen } = this.form.getRawValue();
    const before = this.#objects()[this.changing() ?? ''];
    const figures = Object.fromEntries(
      (['total', 'least', 'greatest'] as const).flatMap((how) =>
        chosen[how].map((field) => [nameIn(before, { field, how }), { field, how }]),
      ),
    );
    const kept = groupObjectSchema.parse({ ...before, of, by, figures });
    // It stays in its place.
    const others = Object.entries(this.#objects());
    const all = before
      ? others.map(([known, object]) => (known === this.changing() ? [name.trim(), kept] : [known, object]))
      : [...others, [name.trim(), kept]];
    this.leave();
    this.changed.emit(Object.fromEntries(all) as System['objects']);
  }

  protected remove(name: string): void {
    if (this.changing() === name) this.leave();
    const others = Object.entries(this.#objects()).filter(([other]) => other !== name);
    this.changed.emit(Object.fromEntries(others));
  }

  #knotName(knot: string): string {
    return this.targets.knots().find(({ id }) => id === knot)?.name ?? knot;
  }

  #fieldName(knot: string, field: string): string {
    return this.targets.definitions()[knot]?.fields.find(({ id }) => id === field)?.name ?? field;
  }
}

/** A figure keeps the name under which knots have mapped it. */
function nameIn(object: GroupObject | undefined, { field, how }: Figure): string {
  const known = Object.entries(object?.figures ?? {}).find(([, one]) => one.field === field && one.how === how);
  return known?.[0] ?? `${how} ${field}`;
}
