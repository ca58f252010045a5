import { CdkDrag, type CdkDragDrop, CdkDragHandle, CdkDropList } from '@angular/cdk/drag-drop';
import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatMenuModule } from '@angular/material/menu';
import type { MemberSummary } from '@anchor-knot/contracts';
import {
  addRuleStep,
  changeRuleStep,
  combinesFor,
  type FieldType,
  moveInOrder,
  moveRuleStep,
  newRuleStep,
  removeRuleStep,
  type Rule,
  type RuleStep,
  stepsToAdd,
} from '@anchor-knot/core';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { OrderActs } from '../../../fields/orderActs';
import { TextField } from '../../../fields/textField';
import { Pennant } from '../../../pennant/pennant';

type Order = Extract<RuleStep, { step: 'order' }>;

const stepWords: Readonly<Record<RuleStep['step'], { readonly name: string; readonly says: string }>> = {
  newest: { name: 'The newest edit', says: 'times nearer together than this count as the same' },
  order: { name: 'An order of members', says: 'whoever stands first and gave a value' },
  greatest: { name: 'The greatest', says: 'number or date; of texts the last in the alphabet' },
  least: { name: 'The least', says: 'number or date; of texts the first in the alphabet' },
  longest: { name: 'The longest', says: 'of texts and lists' },
  present: { name: 'Filled before blank', says: 'who blanked it gives way to who filled it' },
  ask: { name: 'Ask', says: 'a person decides; nothing is written until then' },
};
const combineWords: Readonly<Record<NonNullable<Rule['combine']>, string>> = {
  sum: 'add up the changes',
  union: 'unite the lists',
  text: 'merge the lines',
};
const longestTolerance = 86_400;

/** What settles a conflict, step by step: each step narrows the values, and the first that leaves one settles it. */
@Component({
  selector: 'ak-rule-editor',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    CdkDrag,
    CdkDragHandle,
    CdkDropList,
    MatButtonModule,
    MatMenuModule,
    ChoiceField,
    OrderActs,
    Pennant,
    TextField,
  ],
  templateUrl: './ruleEditor.html',
  styleUrl: './ruleEditor.scss',
})
export class RuleEditor {
  readonly rule = input.required<Rule>();
  /** The types of the fields that it is for. */
  readonly types = input.required<readonly FieldType[]>();
  readonly members = input.required<readonly MemberSummary[]>();
  readonly mayEdit = input(true);
  readonly changed = output<Rule>();
  /** What is said beside the rule, letter by letter. */
  readonly reasoned = output<string>();
  protected readonly orderWords = ['up', 'down', 'leave out'] as const;
  protected readonly words = stepWords;
  protected readonly more = computed(() => stepsToAdd(this.rule()));
  protected readonly combines = computed((): Choice<NonNullable<Rule['combine']> | ''>[] => {
    const fitting = (['sum', 'union', 'text'] as const).filter((combine) =>
      this.types().every((type) => combinesFor(type).includes(combine)),
    );
    return [
      { value: '', says: 'do not combine: one value wins' },
      ...fitting.map((value) => ({ value, says: combineWords[value] })),
    ];
  });

  protected memberOf(id: string): MemberSummary | undefined {
    return this.members().find((member) => member.id === id);
  }
  protected absent({ members }: Order): readonly MemberSummary[] {
    return this.members().filter(({ id }) => !members.includes(id));
  }
  protected combine(combine: Rule['combine'] | ''): void {
    const { combine: _, ...rest } = this.rule();
    this.changed.emit(combine ? { ...rest, combine } : rest);
  }
  protected add(step: RuleStep['step']): void {
    const ids = this.members().map(({ id }) => id);
    this.changed.emit(addRuleStep(this.rule(), newRuleStep(step, ids)));
  }
  protected remove(place: number): void {
    this.changed.emit(removeRuleStep(this.rule(), place));
  }
  protected move(from: number, to: number): void {
    this.changed.emit(moveRuleStep(this.rule(), from, to));
  }
  protected dropped({ previousIndex, currentIndex }: CdkDragDrop<unknown>): void {
    if (previousIndex !== currentIndex) this.move(previousIndex, currentIndex);
  }

  protected readonly refuses = (text: string): string | undefined =>
    /^\d{1,5}(\.\d{1,3})?$/.test(text.trim()) && Number(text) <= longestTolerance
      ? undefined
      : 'Use seconds from 0 to 86,400.';
  /** @param text seconds; empty for what is usual */
  protected tolerate(place: number, text: string): void {
    const step: RuleStep =
      text.trim() === '' ? { step: 'newest' } : { step: 'newest', toleranceSeconds: Number(text.trim()) };
    this.changed.emit(changeRuleStep(this.rule(), place, step));
  }

  protected reorder(place: number, step: Order, from: number, to: number): void {
    if (from !== to) this.#order(place, moveInOrder(step.members, from, to));
  }
  protected leaveOut(place: number, { members }: Order, member: string): void {
    this.#order(
      place,
      members.filter((id) => id !== member),
    );
  }
  protected takeIn(place: number, { members }: Order, member: string): void {
    this.#order(place, [...members, member]);
  }
  #order(place: number, members: readonly string[]): void {
    this.changed.emit(changeRuleStep(this.rule(), place, { step: 'order', members }));
  }
}
