import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { Value } from '../../../values/value';
import { type Field, removeField, setField, setFormula } from './draftEdits';
import { FormulaEditor, type FormulaName } from './formulaEditor';
import { KnotEditor } from './knotEditor';

const types: readonly { readonly value: Field['type']; readonly says: string }[] = [
  { value: 'text', says: 'text' },
  { value: 'note', says: 'note: a long text' },
  { value: 'email', says: 'email' },
  { value: 'phone', says: 'phone' },
  { value: 'choice', says: 'choice' },
  { value: 'number', says: 'number' },
  { value: 'yes/no', says: 'yes/no' },
  { value: 'date', says: 'date' },
  { value: 'instant', says: 'instant: date and time' },
  { value: 'list', says: 'list' },
];
const rules: readonly { readonly value: string; readonly says: string }[] = [
  { value: 'newest', says: 'the newest edit; else ask' },
  { value: 'order', says: 'the members in their order' },
  { value: 'present', says: 'what is filled; else ask' },
  { value: 'longest', says: 'the longest; else ask' },
  { value: 'greatest', says: 'the greatest; else ask' },
  { value: 'least', says: 'the least; else ask' },
  { value: 'ask', says: 'ask always' },
];

/** A shared field: its name, its type, and who wins when members do not agree. */
@Component({
  selector: 'ak-field-editor',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, FormulaEditor, Value],
  template: `
    @if (field(); as one) {
      <h2>Shared field</h2>
      <label>Name<input maxlength="200" [readOnly]="!editor.mayEdit()" [value]="one.name" (input)="name($any($event.target).value)" /></label>
      <label>Type<select [disabled]="!editor.mayEdit()" (change)="set({ type: $any($event.target).value })">@for (type of types; track type.value) {<option [value]="type.value" [selected]="type.value === one.type">{{ type.says }}</option>}</select></label>
      @if (one.formula !== undefined) {
        <div class="part">Computed from other fields<ak-formula-editor [formula]="one.formula" [names]="names()" [wanted]="one.type" label="Formula of the field" hint="given + &quot; &quot; + family" [mayEdit]="editor.mayEdit()" (changed)="formula($event)" /></div>
        <p class="small">On the sample: @if (editor.trial()?.failed?.[one.id]; as reason) {<span class="wrong">{{ reason }}</span>} @else {<ak-value class="sample" [value]="editor.trial()?.shared?.[one.id] ?? null" blankAs="nothing" />}</p>
      } @else {
      <label>When members do not agree<select [disabled]="!editor.mayEdit()" (change)="rule($any($event.target).value)">@for (rule of rules; track rule.value) {<option [value]="rule.value" [selected]="rule.value === ruleOf(one)">{{ rule.says }}</option>}@if (ruleOf(one) === 'other') {<option value="other" selected>a rule of several steps</option>}</select></label>
      }
      <p class="small">In formulas it is called <span class="value">{{ one.id }}</span>.@if (editor.definition()?.titleField === one.id) { It names an anchor in lists.}</p>
      @for (finding of findings(); track finding.says) { <p class="finding" [class.wrong]="finding.kind === 'stops'" [class.waits]="finding.kind === 'warns'">{{ finding.says }}</p> }
      @if (editor.mayEdit()) {
        <p class="acts">@if (editor.definition()?.titleField !== one.id) {<button mat-button type="button" (click)="asTitle(one.id)">Names an anchor</button>}<button mat-button type="button" (click)="editor.edit(removeField(one.id))">Remove this field</button>@if (one.formula === undefined) {<button mat-button type="button" (click)="editor.edit(setFormula(one.id, firstFormula(one.id)))">Compute it</button>} @else {<button mat-button type="button" (click)="editor.edit(setFormula(one.id, undefined))">Let members give it</button>}</p>
      }
    }
  `,
  styles: `h2 { margin: 0 0 6px; } label { display: block; font-size: 12.5px; color: var(--ink-2); margin-top: 7px; } .part { font-size: 12.5px; color: var(--ink-2); margin-top: 7px; } .sample { display: inline-block; max-width: 100%; vertical-align: bottom; } input, select { width: 100%; box-sizing: border-box; } .finding { font-size: 13px; padding-left: 9px; border-left: 3px solid currentColor; }`,
})
export class FieldEditor {
  readonly fieldId = input.required<string>();
  protected readonly editor = inject(KnotEditor);
  protected readonly types = types;
  protected readonly rules = rules;
  protected readonly removeField = removeField;
  protected readonly setFormula = setFormula;
  protected readonly field = computed(() => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId()));
  protected readonly findings = computed(() => this.editor.findings().filter(({ at }) => at === `fields.${this.fieldId()}` || at.startsWith(`fields.${this.fieldId()}.rule`)));

  protected readonly names = computed((): readonly FormulaName[] =>
    (this.editor.definition()?.fields ?? []).filter(({ id }) => id !== this.fieldId()).map(({ id, name, type }) => ({ name: id, says: `${name}, ${type}`, type })),
  );

  /** Something to begin with that is a formula. */
  protected firstFormula(id: string): string {
    return this.editor.definition()?.fields.find((field) => field.id !== id)?.id ?? '""';
  }
  protected formula(formula: string): void {
    if (formula.trim() !== '') this.editor.edit(setFormula(this.fieldId(), formula), `${this.fieldId()} formula`);
  }
  protected ruleOf({ rule }: Field): string {
    if (rule.combine) return 'other';
    const [first, second] = rule.steps;
    if (rule.steps.length === 1) return first?.step ?? 'ask';
    return rule.steps.length === 2 && second?.step === 'ask' && first?.step !== 'order' ? (first?.step ?? 'ask') : 'other';
  }
  protected set(change: Partial<Field>): void {
    this.editor.edit(setField(this.fieldId(), change));
  }
  protected name(name: string): void {
    if (name.trim() !== '') this.editor.edit(setField(this.fieldId(), { name }), `${this.fieldId()} name`);
  }
  protected rule(value: string): void {
    if (value === 'other') return;
    const ask = { step: 'ask' } as const;
    if (value === 'order') {
      const members = this.editor.definition()?.members.map(({ id }) => id) ?? [];
      this.set({ rule: { steps: [{ step: 'order', members }] } });
    } else this.set({ rule: { steps: value === 'ask' ? [ask] : [{ step: value } as Field['rule']['steps'][number], ask] } });
  }
  protected asTitle(id: string): void {
    this.editor.edit((definition) => ({ ...definition, titleField: id }));
  }
}
