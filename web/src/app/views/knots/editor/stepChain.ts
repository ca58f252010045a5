import { ChangeDetectionStrategy, Component, computed, input, output, signal } from '@angular/core';
import type { KnotDefinition } from '@anchor-knot/contracts';
import type { Step } from './draftEdits';
import { FormulaEditor, type FormulaName } from './formulaEditor';
import { WayBack } from './wayBack';
import { partText, stepForm, stepForms, type StepPart, withPart } from './stepForms';

const formulaNames: readonly FormulaName[] = [{ name: 'value', says: 'what goes in' }];

/** The steps of one translation, in the order from the member to the shared field; each can be changed in place. */
@Component({
  selector: 'ak-step-chain',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormulaEditor, WayBack],
  templateUrl: './stepChain.html',
  styleUrl: './stepChain.scss',
})
export class StepChain {
  readonly steps = input.required<readonly Step[]>();
  readonly crosswalks = input.required<KnotDefinition['crosswalks']>();
  readonly mayEdit = input(true);
  /** Where records of the members are shown, with `{key}` in it. */
  readonly recordAddress = input<string>();
  readonly changed = output<readonly Step[]>();
  protected readonly forms = stepForms;
  protected readonly form = (step: Step) => stepForm(step.kind);
  protected readonly text = partText;
  protected readonly refused = signal<Readonly<Record<number, string>>>({});
  protected readonly tables = computed(() => Object.entries(this.crosswalks()).map(([id, { name }]) => ({ id, name })));
  protected readonly formulaNames = formulaNames;

  protected set(index: number, part: StepPart, entered: string | boolean): void {
    const step = this.steps()[index];
    if (!step) return;
    const result = withPart(step, part, entered);
    if ('refused' in result) {
      this.refused.update((all) => ({ ...all, [index]: result.refused }));
      return;
    }
    this.refused.update((all) => Object.fromEntries(Object.entries(all).filter(([at]) => Number(at) !== index)));
    this.changed.emit(this.steps().map((one, at) => (at === index ? result : one)));
  }
  protected add(kind: string): void {
    const form = stepForms.find((one) => one.kind === kind);
    if (form)
      this.changed.emit([
        ...this.steps(),
        form.make(
          this.tables().map(({ id }) => id),
          this.recordAddress(),
        ),
      ]);
  }
  protected replace(index: number, step: Step): void {
    this.changed.emit(this.steps().map((one, at) => (at === index ? step : one)));
  }
  protected remove(index: number): void {
    this.refused.set({});
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
