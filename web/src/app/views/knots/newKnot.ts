import { ChangeDetectionStrategy, Component, computed, DestroyRef, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import { Router, RouterLink } from '@angular/router';
import { KnotsApi } from '../../api/knotsApi';
import { SystemsApi } from '../../api/systemsApi';
import { Asking } from '../../api/asking';
import { load } from '../../api/loaded';
import { FormDrafts } from '../../fields/formDrafts';
import { isFilled } from '../../fields/validators';
import { Pennant } from '../../pennant/pennant';
import { State } from '../state';
import { ProblemText } from '../problem';

interface ChosenObject {
  readonly system: string;
  readonly object: string;
}

const keyOf = (system: string, object: string): string => JSON.stringify([system, object]);

/**
 * A new knot: its name, and the objects that take part. All else is proposed and corrected afterwards, in the knot
 * itself. Where the records of one of them are something else as well, a second knot is begun with it.
 */
@Component({
  selector: 'ak-new-knot-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ProblemText,
    MatButtonModule,
    MatCheckboxModule,
    MatFormFieldModule,
    MatInputModule,
    MatSelectModule,
    ReactiveFormsModule,
    RouterLink,
    Pennant,
    State,
  ],
  templateUrl: './newKnot.html',
  styleUrl: './newKnot.scss',
})
export class NewKnotView {
  readonly #knotsApi = inject(KnotsApi);
  readonly #systemsApi = inject(SystemsApi);
  readonly #router = inject(Router);
  readonly #drafts = inject(FormDrafts);
  protected readonly asking = new Asking();
  protected readonly systems = load(signal('now').asReadonly(), () => this.#systemsApi.systems());
  protected readonly form = new FormGroup({
    name: new FormControl('', { nonNullable: true, validators: [isFilled, Validators.maxLength(200)] }),
    thing: new FormControl('', { nonNullable: true, validators: [isFilled, Validators.maxLength(200)] }),
  });
  /** What the records of one of the objects are as well, in a knot of its own. */
  protected readonly also = new FormGroup({
    of: new FormControl('', { nonNullable: true, validators: isFilled }),
    name: new FormControl('', { nonNullable: true, validators: [isFilled, Validators.maxLength(200)] }),
    thing: new FormControl('', { nonNullable: true, validators: [isFilled, Validators.maxLength(200)] }),
    members: new FormControl<readonly string[]>([], { nonNullable: true, validators: Validators.required }),
  });
  protected readonly isAlso = signal(false);
  readonly #chosen = signal<readonly ChosenObject[]>([]);
  readonly #tried = signal(false);
  protected readonly lacksObjects = computed(() => this.#tried() && this.#chosen().length < 2);
  readonly #objects = computed(() =>
    (this.systems.value() ?? []).flatMap(({ id, name, objects }) =>
      objects.map((object) => ({ system: id, object, key: keyOf(id, object), says: `${name}: ${object}` })),
    ),
  );
  /** Those whose records can be something else as well. */
  protected readonly parts = computed(() =>
    this.#objects().filter(({ system, object }) => this.place(system, object) > 0),
  );
  readonly #of = toSignal(this.also.controls.of.valueChanges, { initialValue: '' });
  protected readonly others = computed(() => this.#objects().filter(({ key }) => key !== this.#of()));

  constructor() {
    this.#drafts.keep('new knot', this.form, inject(DestroyRef));
  }

  /** Its place among the chosen ones, from 1; 0 when it is not chosen. */
  protected place(system: string, object: string): number {
    return this.#chosen().findIndex((one) => one.system === system && one.object === object) + 1;
  }
  protected toggle(system: string, object: string): void {
    const isChosen = this.place(system, object) > 0;
    if (isChosen && this.also.controls.of.value === keyOf(system, object)) this.also.controls.of.reset();
    this.#chosen.update((all) =>
      isChosen ? all.filter((one) => one.system !== system || one.object !== object) : [...all, { system, object }],
    );
  }
  #second() {
    const { of, members, ...names } = this.also.getRawValue();
    const chosen = (key: string): ChosenObject[] =>
      this.#objects().flatMap((one) => (one.key === key ? [{ system: one.system, object: one.object }] : []));
    const [part] = chosen(of);
    return { ...names, of: part as ChosenObject, members: members.filter((key) => key !== of).flatMap(chosen) };
  }

  protected make(): void {
    this.#tried.set(true);
    this.form.markAllAsTouched();
    if (this.form.invalid || this.lacksObjects()) return;
    this.also.markAllAsTouched();
    if (this.isAlso() && this.also.invalid) return;
    const also = this.isAlso() ? { also: this.#second() } : {};
    const knot = { ...this.form.getRawValue(), members: [...this.#chosen()], ...also };
    this.asking.ask(this.#knotsApi.newKnot(knot), (id) => {
      this.#drafts.forget('new knot');
      void this.#router.navigate(['/knots', id, 'fields']);
    });
  }
}
