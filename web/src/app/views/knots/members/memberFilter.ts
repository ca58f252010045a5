import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import { conditionFormula, conditions, pathFormula, setMember, type Condition, type Member } from '@anchor-knot/core';
import { debounceTime, of, switchMap } from 'rxjs';
import { Fold } from '../../../fields/fold';
import { isFilled } from '../../../fields/validators';
import { count } from '../../../words/sentences';
import { FormulaEditor, type FormulaName } from '../editor/formulaEditor';
import { KnotEditor } from '../editor/knotEditor';
import { recordTitle } from '../editor/recordTitle';
import { Surveys } from '../editor/surveys';
import { TrialService } from '../editor/trialService';

const hints: Partial<Record<Condition['kind'], string>> = {
  oneOf: 'separated by commas',
  lastDays: 'how many days',
  before: 'as the field is written',
  after: 'as the field is written',
};

/**
 * Which records of a member take part: a formula, put together by choosing or written, tried on the records that were
 * read.
 */
@Component({
  selector: 'ak-member-filter',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    MatButtonModule,
    MatFormFieldModule,
    MatInputModule,
    MatSelectModule,
    ReactiveFormsModule,
    Fold,
    FormulaEditor,
  ],
  templateUrl: './memberFilter.html',
  styleUrl: './memberFilter.scss',
})
export class MemberFilter {
  readonly member = input.required<Member>();
  protected readonly editor = inject(KnotEditor);
  readonly #trials = inject(TrialService);
  readonly #surveys = inject(Surveys);
  protected readonly count = count;
  protected readonly conditions = conditions;
  protected readonly condition = new FormGroup({
    path: new FormControl('', { nonNullable: true, validators: [Validators.required] }),
    kind: new FormControl<Condition['kind']>('equals', { nonNullable: true }),
    value: new FormControl('', { nonNullable: true, validators: [isFilled] }),
  });
  protected readonly chosen = toSignal(this.condition.controls.kind.valueChanges, {
    initialValue: this.condition.controls.kind.value,
  });
  protected readonly needsValue = computed(
    () => conditions.find(({ kind }) => kind === this.chosen())?.needsValue === true,
  );
  /** What is typed for the condition that was chosen. */
  protected readonly hint = computed(() => hints[this.chosen()] ?? '');
  readonly #there = computed(() => this.editor.reading()?.members.find(({ id }) => id === this.member().id));
  protected readonly fields = computed(() => this.#there()?.fields ?? []);
  protected readonly names = computed((): readonly FormulaName[] => [
    ...this.fields().map(({ path, type, examples }) => ({
      name: pathFormula(path),
      says: examples[0] === undefined ? type : `${type}, as ${examples[0]}`,
    })),
    { name: 'today', says: 'the day, as 2026-11-24', type: 'text' },
  ]);
  readonly #question = computed(() => ({
    member: this.member().id,
    filter: this.member().filter ?? 'true',
    read: this.#there() !== undefined,
  }));
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
    return then &&
      then.filter === this.member().filter &&
      then.object === this.member().object &&
      then.system === this.member().system
      ? survey?.members[then.id]
      : undefined;
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
    this.editor.edit(
      setMember(this.member().id, { filter: formula.trim() === '' ? undefined : formula }),
      `filter ${this.member().id}`,
    );
  }
  /** The condition that was put together goes behind those that are there. */
  protected add(): void {
    this.condition.markAllAsTouched();
    const { path, kind, value } = this.condition.getRawValue();
    if (path === '' || (this.needsValue() && value.trim() === '')) return;
    const type = this.fields().find((field) => field.path === path)?.type ?? 'text';
    const before = this.member().filter;
    const condition = conditionFormula({ kind, path, value }, type === 'number');
    this.write(before ? `${before} && ${condition}` : condition);
  }
}
