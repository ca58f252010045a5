import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatTooltip } from '@angular/material/tooltip';
import { setKeyRules, type KeyRule } from '@anchor-knot/core';
import { WithSide } from '../../../layout/withSide';
import { GoLive } from '../editor/goLive';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { TextField } from '../../../fields/textField';
import { count, plural } from '../../../words/sentences';
import { KnotEditor } from '../editor/knotEditor';
import { Surveys } from '../editor/surveys';
import { EvidenceEditor } from './evidenceEditor';
import { IdentityTabs } from './identityTabs';
import { tableParts } from '../../../tables/rows';

const comparisons: readonly Choice<KeyRule['fields'][number]['normalise']>[] = [
  { value: 'exact', says: 'as it is' },
  { value: 'text', says: 'case and blanks do not matter' },
  { value: 'email', says: 'case and blanks do not matter, as an email' },
  { value: 'digits', says: 'only the digits' },
];

/** When two records are the same thing: key rules, tried in their order, then weighed evidence for what they leave. */
@Component({
  selector: 'ak-knot-identity',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    WithSide,
    MatButtonModule,
    ChoiceField,
    TextField,
    GoLive,
    EvidenceEditor,
    IdentityTabs,
    MatTooltip,
  ],
  templateUrl: './knotIdentity.html',
  styleUrl: './knotIdentity.scss',
})
export class KnotIdentity {
  protected readonly editor = inject(KnotEditor);
  protected readonly comparisons = comparisons;
  readonly #surveys = inject(Surveys);
  protected readonly fields = computed((): Choice[] =>
    (this.editor.definition()?.fields ?? []).map(({ id, name }) => ({ value: id, says: name })),
  );
  protected readonly count = count;
  protected readonly plural = plural;
  /** What all records gave, as long as it was tried with the rules and fields as they are now. */
  protected readonly survey = computed(() => (this.#surveys.isCurrent() ? this.#surveys.last()?.identity : undefined));
  protected readonly rules = (): readonly KeyRule[] => this.editor.definition()?.keyRules ?? [];

  #set(rules: readonly KeyRule[]): void {
    this.editor.edit(setKeyRules(rules));
  }
  #change(index: number, change: (rule: KeyRule) => KeyRule): void {
    this.#set(this.rules().map((rule, at) => (at === index ? change(rule) : rule)));
  }
  #first() {
    const fields = this.editor.definition()?.fields ?? [];
    return fields.find(({ type }) => type === 'email') ?? fields[0];
  }
  /** Rules without a field are not tried. */
  protected found(index: number) {
    const tried = this.rules().filter((rule) => rule.fields.length > 0);
    const place = tried.indexOf(this.rules()[index] as KeyRule);
    return place < 0 ? undefined : this.survey()?.rules[place];
  }
  protected name(index: number, name: string): void {
    if (name.trim() !== '') this.#change(index, (rule) => ({ ...rule, name: name.trim() }));
  }
  protected part(index: number, at: number, change: Partial<KeyRule['fields'][number]>): void {
    this.#change(index, (rule) => ({
      ...rule,
      fields: rule.fields.map((one, place) => (place === at ? { ...one, ...change } : one)),
    }));
  }
  protected addPart(index: number): void {
    const field = this.#first();
    if (field)
      this.#change(index, (rule) => ({ ...rule, fields: [...rule.fields, { field: field.id, normalise: 'text' }] }));
  }
  protected dropPart(index: number, at: number): void {
    this.#change(index, (rule) => ({ ...rule, fields: rule.fields.filter((_, place) => place !== at) }));
  }
  protected move(index: number): void {
    const rules = [...this.rules()];
    const [rule] = rules.splice(index, 1);
    if (rule) this.#set([...rules.slice(0, index - 1), rule, ...rules.slice(index - 1)]);
  }
  protected drop(index: number): void {
    this.#set(this.rules().filter((_, at) => at !== index));
  }
  protected add(): void {
    const field = this.#first();
    if (field)
      this.#set([
        ...this.rules(),
        { name: field.name, fields: [{ field: field.id, normalise: field.type === 'email' ? 'email' : 'text' }] },
      ]);
  }
}
