import { ChangeDetectionStrategy, Component, inject, input, signal } from '@angular/core';
import { FormControl, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import type { MadeStartCall, StartCall } from '@anchor-knot/contracts';
import { Asking } from '../../../api/asking';
import { KnotsApi } from '../../../api/knotsApi';
import { load } from '../../../api/loaded';
import { SessionService } from '../../../api/session';
import { tableParts } from '../../../tables/rows';
import { Telling } from '../../../telling/telling';
import { AgoTime } from '../../../words/agoTime';
import { count } from '../../../words/sentences';
import { ProblemText } from '../../problem';
import { State } from '../../state';

/** Addresses at which other programs start the knot. What is made or removed holds at once. */
@Component({
  selector: 'ak-start-calls',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    AgoTime,
    MatButtonModule,
    MatFormFieldModule,
    MatInputModule,
    ProblemText,
    ReactiveFormsModule,
    State,
  ],
  templateUrl: './startCalls.html',
  styleUrl: './startCalls.scss',
})
export class StartCalls {
  readonly knot = input.required<string>();
  readonly #api = inject(KnotsApi);
  readonly #telling = inject(Telling);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly count = count;
  protected readonly calls = load(this.knot, (knot) => this.#api.startCalls(knot));
  protected readonly name = new FormControl('', { nonNullable: true, validators: [Validators.pattern(/\S/)] });
  /** The one that was just made: its secret is shown once. */
  protected readonly made = signal<MadeStartCall | undefined>(undefined);

  protected make(): void {
    const name = this.name.value.trim();
    if (name === '') return;
    this.asking.ask(this.#api.makeStartCall(this.knot(), name), (made) => {
      this.made.set(made);
      this.name.reset();
      this.calls.reload();
    });
  }

  protected remove({ id, name }: StartCall): void {
    this.#telling
      .confirm({
        title: `Remove the address of “${name}”?`,
        says: 'Its calls are not taken any more. Another one gets another secret.',
        action: 'Remove it',
      })
      .subscribe(() => this.asking.ask(this.#api.removeStartCall(this.knot(), id), () => this.calls.reload()));
  }
}
