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
  templateUrl: './fieldEditor.html',
  styleUrl: './fieldEditor.scss',
})
export class FieldEditor {
  readonly fieldId = input.required<string>();
  protected readonly editor = inject(KnotEditor);
  protected readonly types = types;
  protected readonly rules = rules;
  protected readonly removeField = removeField;
  protected readonly setFormula = setFormula;
  protected readonly field = computed(() => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId()));
  protected readonly findings = computed(() =>
    this.editor
      .findings()
      .filter(({ at }) => at === `fields.${this.fieldId()}` || at.startsWith(`fields.${this.fieldId()}.rule`)),
  );

  protected readonly names = computed((): readonly FormulaName[] =>
    (this.editor.definition()?.fields ?? [])
      .filter(({ id }) => id !== this.fieldId())
      .map(({ id, name, type }) => ({ name: id, says: `${name}, ${type}`, type })),
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
    return rule.steps.length === 2 && second?.step === 'ask' && first?.step !== 'order'
      ? (first?.step ?? 'ask')
      : 'other';
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
    } else
      this.set({ rule: { steps: value === 'ask' ? [ask] : [{ step: value } as Field['rule']['steps'][number], ask] } });
  }
  protected asTitle(id: string): void {
    this.editor.edit((definition) => ({ ...definition, titleField: id }));
  }
}
