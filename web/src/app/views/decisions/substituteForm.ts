import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { Decision, MemberSummary, Problem } from '@anchor-knot/contracts';
import { LiveEvents } from '../../api/liveEvents';
import { problemOf } from '../../api/problems';
import { SubstitutesApi } from '../../api/substitutesApi';
import { ThingField } from '../../fields/thingField';
import { Telling } from '../../telling/telling';
import { ProblemText } from '../problem';

/** Says once what stands for that for which a reference waits: for a value, or for a thing that cannot be told. */
@Component({
  selector: 'ak-substitute-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, ProblemText, ThingField],
  templateUrl: './substituteForm.html',
  styleUrl: './substituteForm.scss',
})
export class SubstituteForm {
  readonly decision = input.required<Extract<Decision, { kind: 'waiting' }>>();
  readonly members = input.required<readonly MemberSummary[]>();
  readonly said = output();
  readonly #api = inject(SubstitutesApi);
  readonly #telling = inject(Telling);
  readonly #live = inject(LiveEvents);
  protected readonly busy = signal(false);
  protected readonly problem = signal<Problem | undefined>(undefined);
  protected readonly value = computed(() => this.decision().detail.value);
  protected readonly systemName = computed(() => {
    const { member } = this.decision();
    return this.members().find(({ id }) => id === member)?.systemName ?? 'this system';
  });

  /** @param stands nothing where it means nobody */
  protected say(stands?: { readonly id: string; readonly title: string }): void {
    const { knot, by, value, thing, title } = this.decision().detail;
    this.busy.set(true);
    this.problem.set(undefined);
    this.#api.say(knot, { by, value, thing: value === null ? thing : null, stands: stands?.id ?? null }).subscribe({
      next: ({ id, runs }) => {
        this.busy.set(false);
        this.#live.decided.next();
        const who = stands ? `${stands.title} stands for ${value ?? title ?? 'it'}` : `${value} means nobody`;
        const goes = runs.length > 0 ? 'What waits for it goes on now.' : 'The next run takes it up.';
        this.#telling.offer(`${who}. ${goes}`, 'Undo').subscribe(() => this.#takeBack(id));
        this.said.emit();
      },
      error: (error: unknown) => {
        this.busy.set(false);
        this.problem.set(problemOf(error));
      },
    });
  }

  #takeBack(id: string): void {
    this.#api.takeBack(id).subscribe({
      next: () => this.#live.decided.next(),
      error: (error: unknown) => this.#telling.sayProblem(error, 'It was not taken back.'),
    });
  }
}
