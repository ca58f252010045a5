import { ChangeDetectionStrategy, Component, computed, DestroyRef, inject, signal } from '@angular/core';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
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

/**
 * A new knot: its name, and the objects that take part. All else is proposed and corrected afterwards, in the knot
 * itself.
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
  readonly #chosen = signal<readonly ChosenObject[]>([]);
  readonly #tried = signal(false);
  protected readonly lacksObjects = computed(() => this.#tried() && this.#chosen().length === 0);

  constructor() {
    this.#drafts.keep('new knot', this.form, inject(DestroyRef));
  }

  /** Its place among the chosen ones, from 1; 0 when it is not chosen. */
  protected place(system: string, object: string): number {
    return this.#chosen().findIndex((one) => one.system === system && one.object === object) + 1;
  }
  protected toggle(system: string, object: string): void {
    const isChosen = this.place(system, object) > 0;
    this.#chosen.update((all) =>
      isChosen ? all.filter((one) => one.system !== system || one.object !== object) : [...all, { system, object }],
    );
  }
  protected make(): void {
    this.#tried.set(true);
    this.form.markAllAsTouched();
    if (this.form.invalid || this.lacksObjects()) return;
    const knot = { ...this.form.getRawValue(), members: [...this.#chosen()] };
    this.asking.ask(this.#knotsApi.newKnot(knot), (id) => {
      this.#drafts.forget('new knot');
      void this.#router.navigate(['/knots', id, 'fields']);
    });
  }
}
