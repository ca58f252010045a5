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
  template: `
    <ol>
      @for (step of steps(); track $index; let index = $index) {
        <li>
          <div class="top"><strong>{{ form(step).name }}</strong>
            @if (mayEdit()) { <span class="acts"><button type="button" class="link" [disabled]="index === 0" (click)="move(index, -1)" [attr.aria-label]="'Move ' + form(step).name + ' up'">up</button><button type="button" class="link" [disabled]="index === steps().length - 1" (click)="move(index, 1)" [attr.aria-label]="'Move ' + form(step).name + ' down'">down</button><button type="button" class="link" (click)="remove(index)" [attr.aria-label]="'Remove the step ' + form(step).name">remove</button></span> }
          </div>
          <small>{{ form(step).says }}</small>
          @for (part of form(step).parts; track part.key) {
            @switch (part.as) {
              @case ('check') { <label class="line"><input type="checkbox" [disabled]="!mayEdit()" [checked]="text(step, part) === 'true'" (change)="set(index, part, $any($event.target).checked)" /> {{ part.label }}</label> }
              @case ('choice') { <label>{{ part.label }}<select [disabled]="!mayEdit()" (change)="set(index, part, $any($event.target).value)">@if (part.optional) {<option value="" [selected]="text(step, part) === ''">as usual</option>}@for (choice of part.choices; track choice.value) {<option [value]="choice.value" [selected]="choice.value === text(step, part)">{{ choice.says }}</option>}</select></label> }
              @case ('table') { <label>{{ part.label }}<select [disabled]="!mayEdit()" (change)="set(index, part, $any($event.target).value)">@for (table of tables(); track table.id) {<option [value]="table.id" [selected]="table.id === text(step, part)">{{ table.name }}</option>} @empty {<option value="">no crosswalk yet</option>}</select></label> }
              @case ('formula') { <div class="part">{{ part.label }}<ak-formula-editor [formula]="text(step, part)" [names]="formulaNames" [label]="'Formula ' + part.label.toLowerCase()" [hint]="part.hint ?? ''" [mayEdit]="mayEdit()" [mayBeEmpty]="true" (changed)="set(index, part, $event)" /></div> }
              @default { <label>{{ part.label }}<input [readOnly]="!mayEdit()" [placeholder]="part.hint ?? ''" [value]="text(step, part)" (input)="set(index, part, $any($event.target).value)" /></label> }
            }
          }
          @if (step.kind === 'formula' && mayEdit()) { <ak-way-back [step]="step" (taken)="replace(index, $event)" /> }
          @if (refused()[index]; as says) { <small class="wrong" role="alert">{{ says }}</small> }
        </li>
      } @empty { <li class="quiet">Rename only: the value goes across as it is.</li> }
    </ol>
    @if (mayEdit()) {
      <label>Add a step<select #adding (change)="add(adding.value); adding.value = ''"><option value="">choose…</option>@for (one of forms; track one.kind) {<option [value]="one.kind" [disabled]="one.kind === 'crosswalk' && tables().length === 0">{{ one.name }}: {{ one.says }}</option>}</select></label>
    }
  `,
  styles: `
    ol { list-style: none; margin: 0; padding: 0; } li { border-top: 1px solid var(--hair-2); padding: 7px 0; font-size: 13.5px; }
    .top { display: flex; justify-content: space-between; } .acts { display: flex; gap: 10px; } label { display: block; font-size: 12.5px; color: var(--ink-2); margin-top: 5px; } label.line { color: var(--ink); }
    select, input:not([type='checkbox']), textarea { width: 100%; box-sizing: border-box; } .part { font-size: 12.5px; color: var(--ink-2); margin-top: 5px; }
  `,
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
