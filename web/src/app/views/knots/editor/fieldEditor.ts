import {
  ChangeDetectionStrategy,
  Component,
  computed,
  effect,
  inject,
  input,
  linkedSignal,
  signal,
  untracked,
} from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckbox } from '@angular/material/checkbox';
import { RouterLink } from '@angular/router';
import { referNoMore, referTo, removeField, setField, setFormula, type SharedField } from '@anchor-knot/core';
import { load } from '../../../api/loaded';
import { SeriesApi } from '../../../api/seriesApi';
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
  { value: 'reference', says: 'reference: a thing of another knot' },
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
  readonly #seriesApi = inject(SeriesApi);
  readonly #series = load(signal('now').asReadonly(), () => this.#seriesApi.all());
  protected readonly types = types;
  protected readonly removeField = removeField;
  protected readonly setFormula = setFormula;
  protected readonly field = computed(() => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId()));
  protected readonly findings = computed(() =>
    this.editor.findings().filter(({ at }) => {
      const own = `fields.${this.fieldId()}`;
      return (
        at === own ||
        at === `${own}.levels` ||
        at === `${own}.archivedWith` ||
        at === `${own}.series` ||
        at.startsWith(`${own}.rule`)
      );
    }),
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
  /** The knots that it can refer to: this one too, for things that belong to others of their kind. */
  protected readonly targets = computed((): readonly Choice[] =>
    this.editor.targets.knots().map(({ id, name }) => ({ value: id, says: name })),
  );
  protected readonly isReference = computed(() => this.field()?.type === 'reference' || this.referring());
  /** A reference was asked for, and not yet to which knot. */
  protected readonly referring = linkedSignal({ source: () => this.fieldId(), computation: () => false });
  /** The knot that was chosen, and whose definition is not here yet. */
  readonly #wanted = signal<{ readonly field: string; readonly knot: string } | undefined>(undefined);

  constructor() {
    effect(() => {
      const wanted = this.#wanted();
      const target = wanted && this.editor.targets.definitions()[wanted.knot];
      if (!wanted || !target) return;
      untracked(() => {
        this.#wanted.set(undefined);
        this.referring.set(false);
        this.editor.edit(referTo(wanted.field, target));
      });
    });
  }

  protected retype(type: SharedField['type']): void {
    this.referring.set(type === 'reference');
    if (type === 'reference') return;
    this.editor.edit(
      this.field()?.type === 'reference' ? referNoMore(this.fieldId(), type) : setField(this.fieldId(), { type }),
    );
  }
  protected refer(knot: string): void {
    this.editor.targets.know(knot);
    this.#wanted.set({ field: this.fieldId(), knot });
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
  /** The series that it can take its numbers from; nothing is chosen where members alone give it. */
  protected readonly seriesChoices = computed((): readonly Choice[] => [
    { value: '', says: 'no series: systems give it' },
    ...(this.#series.value() ?? []).map(({ id, series, nextText }) => ({
      value: id,
      says: `${series.name}, next ${nextText ?? 'none'}`,
    })),
  ]);
  protected readonly mayBeNumbered = computed(() => {
    const field = this.field();
    return field?.type === 'text' && field.formula === undefined && (this.#series.value()?.length ?? 0) > 0;
  });
  protected asTitle(id: string): void {
    this.editor.edit((definition) => ({ ...definition, titleField: id }));
  }
}
