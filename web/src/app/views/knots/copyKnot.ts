import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { Router, RouterLink } from '@angular/router';
import { freeId, withObjects } from '@anchor-knot/core';
import { forkJoin } from 'rxjs';
import { Asking } from '../../api/asking';
import { KnotsApi } from '../../api/knotsApi';
import { load } from '../../api/loaded';
import { SystemsApi } from '../../api/systemsApi';
import { type Choice, ChoiceField } from '../../fields/choiceField';
import { isFilled } from '../../fields/validators';
import { State } from '../state';
import { ProblemText } from '../problem';

interface ChosenObject {
  readonly system: string;
  readonly object: string;
}

/** A copy of a knot, for the same or for other objects and systems. What no longer fits there is shown in the copy. */
@Component({
  selector: 'ak-copy-knot-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ProblemText,
    MatButtonModule,
    MatFormFieldModule,
    MatInputModule,
    ReactiveFormsModule,
    RouterLink,
    ChoiceField,
    State,
  ],
  templateUrl: './copyKnot.html',
  styleUrl: './newKnot.scss',
})
export class CopyKnotView {
  readonly id = input.required<string>();
  readonly #knots = inject(KnotsApi);
  readonly #systems = inject(SystemsApi);
  readonly #router = inject(Router);
  protected readonly asking = new Asking();
  protected readonly loaded = load(this.id, (id) => forkJoin([this.#knots.draft(id), this.#systems.systems()]));
  readonly #chosen = signal<Readonly<Record<string, ChosenObject>>>({});
  protected readonly form = new FormGroup({
    name: new FormControl('', { nonNullable: true, validators: [isFilled, Validators.maxLength(200)] }),
  });

  protected readonly members = computed(() => {
    const [draft, systems = []] = this.loaded.value() ?? [];
    const nameOf = (id: string): string => systems.find((system) => system.id === id)?.name ?? id;
    return (draft?.definition.members ?? []).map(({ id, system, object }) => {
      const now = this.#chosen()[id] ?? { system, object };
      return { id, says: `${nameOf(system)}: ${object}`, value: JSON.stringify([now.system, now.object]) };
    });
  });
  protected readonly objects = computed((): Choice[] => {
    const [, systems = []] = this.loaded.value() ?? [];
    return systems.flatMap(({ id, name, objects }) =>
      objects.map((object) => ({ value: JSON.stringify([id, object]), says: `${name}: ${object}` })),
    );
  });

  constructor() {
    effect(() => {
      const [draft] = this.loaded.value() ?? [];
      if (draft && this.form.pristine) this.form.setValue({ name: `${draft.definition.name}, copy` });
    });
  }

  protected choose(member: string, value: string): void {
    const [system, object] = JSON.parse(value) as [string, string];
    this.#chosen.update((all) => ({ ...all, [member]: { system, object } }));
  }

  protected copy(): void {
    const [draft] = this.loaded.value() ?? [];
    this.form.markAllAsTouched();
    if (!draft || this.form.invalid) return;
    const name = this.form.controls.name.value.trim();
    const knot = { ...withObjects(draft.definition, this.#chosen()), name, id: freeId(name, []) };
    this.asking.ask(
      this.#knots.importKnot({ format: 'anchor-knot', formatVersion: 1, knot }),
      (id) => void this.#router.navigate(['/knots', id, 'fields']),
    );
  }
}
