import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatMenuModule } from '@angular/material/menu';
import type { KnotDefinition } from '@anchor-knot/contracts';
import type { Step } from '@anchor-knot/core';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { OrderActs } from '../../../fields/orderActs';
import { TextField } from '../../../fields/textField';
import { ReferenceStepEditor } from './referenceStep';
import { FormulaEditor, type FormulaName } from './formulaEditor';
import { WayBack } from './wayBack';
import { partText, type StepForm, stepForm, stepForms, type StepPart, withPart } from './stepForms';

const formulaNames: readonly FormulaName[] = [{ name: 'value', says: 'what goes in' }];

/** The steps of one translation, in the order from the member to the shared field; each can be changed in place. */
@Component({
  selector: 'ak-step-chain',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    MatButtonModule,
    MatCheckboxModule,
    MatMenuModule,
    ChoiceField,
    FormulaEditor,
    OrderActs,
    ReferenceStepEditor,
    TextField,
    WayBack,
  ],
  templateUrl: './stepChain.html',
  styleUrl: './stepChain.scss',
})
export class StepChain {
  readonly steps = input.required<readonly Step[]>();
  readonly crosswalks = input.required<KnotDefinition['crosswalks']>();
  /** The knot that the field refers to, where it is a reference. */
  readonly refersTo = input<string>();
  readonly mayEdit = input(true);
  /** Where records of the members are shown, with `{key}` in it. */
  readonly recordAddress = input<string>();
  readonly changed = output<readonly Step[]>();
  /** How a field refers is chosen with its type: there is one such step, and only in a reference. */
  protected readonly forms = stepForms.filter(({ kind }) => kind !== 'reference');
  protected readonly form = (step: Step) => stepForm(step.kind);
  protected readonly text = partText;
  protected readonly tables = computed((): Choice[] =>
    Object.entries(this.crosswalks()).map(([value, { name }]) => ({ value, says: name })),
  );
  protected readonly formulaNames = formulaNames;

  protected set(index: number, part: StepPart, entered: string | boolean): void {
    const step = this.steps()[index];
    if (!step) return;
    const result = withPart(step, part, entered);
    if ('refused' in result) return;
    this.changed.emit(this.steps().map((one, at) => (at === index ? result : one)));
  }
  /** Why a part of a step cannot be what was typed. */
  protected refusesOf(step: Step, part: StepPart): (text: string) => string | undefined {
    return (text) => {
      const result = withPart(step, part, text);
      return 'refused' in result ? result.refused : undefined;
    };
  }
  protected choicesOf({ optional, choices = [] }: StepPart): readonly Choice[] {
    return optional ? [{ value: '', says: 'as usual' }, ...choices] : choices;
  }
  protected add(form: StepForm): void {
    const tables = this.tables().map(({ value }) => value);
    const made = form.make(tables, this.recordAddress());
    const at = this.steps().findIndex(({ kind }) => kind === 'reference');
    this.changed.emit(at < 0 ? [...this.steps(), made] : this.steps().toSpliced(at, 0, made));
  }
  protected replace(index: number, step: Step): void {
    this.changed.emit(this.steps().map((one, at) => (at === index ? step : one)));
  }
  protected remove(index: number): void {
    this.changed.emit(this.steps().filter((_, at) => at !== index));
  }
  protected move(index: number, by: number): void {
    const steps = [...this.steps()];
    const [step] = steps.splice(index, 1);
    if (!step) return;
    steps.splice(index + by, 0, step);
    this.changed.emit(steps);
  }
}
