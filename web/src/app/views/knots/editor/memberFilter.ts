import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { debounceTime, of, switchMap } from 'rxjs';
import { count } from '../../../words/sentences';
import { conditionFormula, type Condition, conditions, pathFormula } from './conditions';
import { type Member, setMember } from './draftEdits';
import { FormulaEditor, type FormulaName } from './formulaEditor';
import { KnotEditor } from './knotEditor';
import { recordTitle } from './recordTitle';
import { Surveys } from './surveys';
import { TrialService } from './trialService';

/** Which records of a member take part: a formula, put together by choosing or written, tried on the records that were read. */
@Component({
  selector: 'ak-member-filter',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormulaEditor],
  template: `
    <ak-formula-editor [formula]="member().filter ?? ''" [names]="names()" [label]="'Filter of ' + member().id" hint="all records" wanted="yes/no" [mayEdit]="editor.mayEdit()" [mayBeEmpty]="true" (changed)="write($event)" />
    @if (counted(); as all) {
      <small [class.waits]="all.takePart === 0"><b>{{ count(all.takePart) }} of all {{ count(all.records) }} records take part.</b>{{ all.filterReason ? ' On ' + count(all.filterFails) + ' it fails: ' + all.filterReason : '' }}</small>
      @if (member().filter) { <small class="sides"><b>in</b> {{ titles(all.inside) || 'none' }}<br /><b>out</b> {{ titles(all.outside) || 'none' }}</small> }
    } @else if (tried(); as outcome) {
      @if (outcome.ok) {
        <small [class.waits]="passing() === 0">{{ count(passing()) }} of {{ count(outcome.value.passes.length) }} records looked at take part.{{ outcome.value.trouble ? ' On some it fails: ' + outcome.value.trouble : '' }}</small>
        @if (member().filter) { <small class="sides"><b>in</b> {{ examples(true) || 'none' }}<br /><b>out</b> {{ examples(false) || 'none' }}</small> }
      }
    }
    @if (editor.mayEdit()) {
      <details><summary>Choose a condition</summary>
        <select aria-label="Field" #field>@for (one of fields(); track one.path) {<option [value]="one.path">{{ one.path }}</option>}</select>
        <select aria-label="Condition" #kind (change)="chosen.set($any(kind.value))">@for (one of conditions; track one.kind) {<option [value]="one.kind">{{ one.says }}</option>}</select>
        @if (needsValue()) { <input aria-label="Value" #value [attr.placeholder]="chosen() === 'oneOf' ? 'separated by commas' : chosen() === 'lastDays' ? 'how many days' : chosen() === 'before' || chosen() === 'after' ? 'as the field is written' : ''" /> <button type="button" class="link" (click)="add(field.value, value.value)">Add it</button> } @else { <button type="button" class="link" (click)="add(field.value, '')">Add it</button> }
      </details>
    }
  `,
  styles: `:host { display: block; } select, input { width: 100%; box-sizing: border-box; margin-bottom: 3px; } small { display: block; } .sides { color: var(--ink-2); overflow-wrap: anywhere; } summary { cursor: pointer; font-size: 12.5px; color: var(--petrol); }`,
})
export class MemberFilter {
  readonly member = input.required<Member>();
  protected readonly editor = inject(KnotEditor);
  readonly #trials = inject(TrialService);
  readonly #surveys = inject(Surveys);
  protected readonly count = count;
  protected readonly conditions = conditions;
  protected readonly chosen = signal<Condition['kind']>('equals');
  protected readonly needsValue = computed(() => conditions.find(({ kind }) => kind === this.chosen())?.needsValue === true);
  readonly #there = computed(() => this.editor.reading()?.members.find(({ id }) => id === this.member().id));
  protected readonly fields = computed(() => this.#there()?.fields ?? []);
  protected readonly names = computed((): readonly FormulaName[] => [
    ...this.fields().map(({ path, type, examples }) => ({ name: pathFormula(path), says: examples[0] === undefined ? type : `${type}, as ${examples[0]}` })),
    { name: 'today', says: 'the day, as 2026-11-24', type: 'text' },
  ]);
  readonly #question = computed(() => ({ member: this.member().id, filter: this.member().filter ?? 'true', read: this.#there() !== undefined }));
  protected readonly tried = toSignal(
    toObservable(this.#question).pipe(
      debounceTime(120),
      switchMap(({ member, filter, read }) => (read ? this.#trials.filter(member, filter) : of(undefined))),
    ),
  );
  /** What was counted in all records, while it is of the filter as it is now. */
  protected readonly counted = computed(() => {
    const survey = this.#surveys.last();
    const then = survey?.definition.members.find(({ id }) => id === this.member().id);
    return then && then.filter === this.member().filter && then.object === this.member().object && then.system === this.member().system ? survey?.members[then.id] : undefined;
  });
  protected readonly passing = computed(() => {
    const outcome = this.tried();
    return outcome?.ok ? outcome.value.passes.filter(Boolean).length : 0;
  });

  protected titles(examples: readonly { readonly title: string }[]): string {
    return examples.map(({ title }) => title).join(' · ');
  }
  protected examples(passing: boolean): string {
    const outcome = this.tried();
    if (!outcome?.ok) return '';
    const sample = this.#there()?.sample ?? [];
    return sample
      .filter((_, index) => outcome.value.passes[index] === passing)
      .slice(0, 3)
      .map((record) => recordTitle(record, this.editor.titlePath(this.member().id)))
      .join(' · ');
  }
  protected write(formula: string): void {
    this.editor.edit(setMember(this.member().id, { filter: formula.trim() === '' ? undefined : formula }), `filter ${this.member().id}`);
  }
  protected add(path: string, value: string): void {
    if (path === '' || (this.needsValue() && value.trim() === '')) return;
    const type = this.fields().find((field) => field.path === path)?.type ?? 'text';
    const before = this.member().filter;
    const condition = conditionFormula({ kind: this.chosen(), path, value }, type === 'number');
    this.write(before ? `${before} && ${condition}` : condition);
  }
}
