import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { Router, RouterLink } from '@angular/router';
import { newKnotSchema } from '@anchor-knot/contracts';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';
import { load } from '../../api/loaded';
import { Pennant } from '../../pennant/pennant';
import { State } from '../state';

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
  imports: [MatButtonModule, RouterLink, Pennant, State],
  templateUrl: './newKnot.html',
  styleUrl: './newKnot.scss',
})
export class NewKnotView {
  readonly #api = inject(Api);
  readonly #router = inject(Router);
  protected readonly asking = new Asking();
  protected readonly systems = load(signal('now').asReadonly(), () => this.#api.systems());
  protected readonly name = signal('');
  protected readonly thing = signal('');
  readonly #chosen = signal<readonly ChosenObject[]>([]);
  readonly #tried = signal(false);
  protected readonly said = computed(() => {
    if (!this.#tried()) return '';
    const read = newKnotSchema.safeParse(this.#asked());
    return read.success
      ? ''
      : read.error.issues
          .map(
            ({ path, message }) =>
              `${path[0] === 'name' ? 'Name' : path[0] === 'thing' ? 'One of them is called' : 'Objects'}: ${message}`,
          )
          .join('. ');
  });
  readonly #asked = computed(() => ({ name: this.name(), thing: this.thing(), members: [...this.#chosen()] }));

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
    if (this.said() === '')
      this.asking.ask(
        this.#api.newKnot(this.#asked()),
        (knot) => void this.#router.navigate(['/knots', knot, 'fields']),
      );
  }
}
