import { ChangeDetectionStrategy, Component, computed, inject, input, output } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatDialog } from '@angular/material/dialog';
import { MatMenuModule } from '@angular/material/menu';
import type { Decision, MemberSummary } from '@anchor-knot/contracts';
import { filter } from 'rxjs';
import { Telling } from '../../telling/telling';
import { plural } from '../../words/sentences';
import { DecisionActs, nameOf } from './decisionActs';
import { GiveDialog, type GivenTo } from './giveDialog';
import { type ManyChoice, manyChoices } from './manyChoices';
import { DayDialog, type DayQuestion } from '../../fields/dayDialog';
import { ProblemText } from '../problem';

const morning = 8;

/** What can be done with decisions whatever they are about, and with several at once. */
@Component({
  selector: 'ak-handling',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ProblemText, MatButtonModule, MatMenuModule],
  templateUrl: './handling.html',
  styleUrl: './handling.scss',
})
export class Handling {
  readonly decisions = input.required<readonly Decision[]>();
  readonly membersOf = input.required<(decision: Decision) => readonly MemberSummary[]>();
  /** Those that are gone from the list. */
  readonly settled = output<readonly string[]>();
  protected readonly acts = inject(DecisionActs);
  readonly #telling = inject(Telling);
  readonly #dialog = inject(MatDialog);
  protected readonly isMany = computed(() => this.decisions().length > 1);
  protected readonly choices = computed(() => manyChoices(this.decisions(), this.membersOf()));
  protected readonly isPutOff = computed(() => this.decisions().some(({ putOffUntil }) => putOffUntil !== null));
  protected readonly title = computed(() => plural(this.decisions().length, 'decision'));

  /** What that comes to is said before. */
  protected decide(choice: ManyChoice): void {
    this.#telling
      .confirm({ title: `${choice.says}?`, says: choice.follows, action: choice.says })
      .subscribe(() =>
        this.acts.decideMany(choice.choices, () =>
          this.settled.emit(choice.choices.map(({ decision }) => decision.id)),
        ),
      );
  }

  /** Until the morning of the day after so many days. */
  protected putOff(days: number): void {
    const until = new Date();
    until.setDate(until.getDate() + days);
    until.setHours(morning, 0, 0, 0);
    this.#putOff(until);
  }
  protected putOffToADay(): void {
    this.#dialog
      .open<DayDialog, DayQuestion, Date>(DayDialog, {
        data: { title: 'Put off until a day', action: 'Put off', hour: 8 },
      })
      .afterClosed()
      .pipe(filter((until) => until !== undefined))
      .subscribe((until) => this.#putOff(until));
  }
  #putOff(until: Date): void {
    this.acts.putOff(this.decisions(), until, () => this.#left());
  }
  protected waitAgain(): void {
    this.acts.waitAgain(this.decisions().map(nameOf), () => this.#left());
  }
  protected give(): void {
    const [{ givenTo, note } = { givenTo: null, note: '' }] = this.decisions();
    this.#dialog
      .open<GiveDialog, GivenTo, GivenTo>(GiveDialog, { data: { to: givenTo, note } })
      .afterClosed()
      .pipe(filter((given) => given !== undefined))
      .subscribe((given) => this.acts.give(this.decisions(), given.to, given.note, () => undefined));
  }
  #left(): void {
    this.settled.emit(this.decisions().map(({ id }) => id));
  }
}
