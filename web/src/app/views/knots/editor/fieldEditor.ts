import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckbox } from '@angular/material/checkbox';
import { RouterLink } from '@angular/router';
import { removeField, setField, setFormula, type SharedField } from '@anchor-knot/core';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { TextField } from '../../../fields/textField';
import { Value } from '../../../values/value';
import { ruleSentence } from '../../../words/sentences';
import { FormulaEditor, type FormulaName } from './formulaEditor';
import { KnotEditor } from './knotEditor';

const types: readonly Choice<SharedField['type']>[] = [
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
/** A shared field: its name, its type, and who wins when members do not agree. */
@Component({
  selector: 'ak-field-editor',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, MatCheckbox, RouterLink, ChoiceField, FormulaEditor, TextField, Value],
  templateUrl: './fieldEditor.html',
  styleUrl: './fieldEditor.scss',
})
export class FieldEditor {
  readonly fieldId = input.required<string>();
  protected readonly editor = inject(KnotEditor);
  protected readonly types = types;
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
  protected ruleWords({ rule }: SharedField): string {
    return ruleSentence(rule, this.editor.members());
  }
  protected set(change: Partial<SharedField>): void {
    this.editor.edit(setField(this.fieldId(), change));
  }
  protected name(name: string): void {
    if (name.trim() !== '') this.editor.edit(setField(this.fieldId(), { name }), `${this.fieldId()} name`);
  }
  protected note(note: string): void {
    this.editor.edit(setField(this.fieldId(), { note: note === '' ? undefined : note }), `${this.fieldId()} note`);
  }
  protected asTitle(id: string): void {
    this.editor.edit((definition) => ({ ...definition, titleField: id }));
  }
}
