import { ChangeDetectionStrategy, Component, computed, inject, linkedSignal, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { freeId, readyMadeChecks, setChecks, type Check, type SharedField } from '@anchor-knot/core';
import { combineLatest, debounceTime, map, type Observable, of, switchMap } from 'rxjs';
import { type Choice, ChoiceField } from '../../fields/choiceField';
import { Fold } from '../../fields/fold';
import { TextField } from '../../fields/textField';
import { count } from '../../words/sentences';
import { FormulaEditor, type FormulaName } from './editor/formulaEditor';
import { WithSide } from '../../layout/withSide';
import { GoLive } from './editor/goLive';
import { KnotEditor } from './editor/knotEditor';
import { recordTitle } from './editor/recordTitle';
import { Surveys } from './editor/surveys';
import { TrialService } from './editor/trialService';
import { tableParts } from '../../tables/rows';

/** Rules on a record, what happens when it fails one, and which of the records that are there would. */
@Component({
  selector: 'ak-knot-checks',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    WithSide,
    MatButtonModule,
    MatCheckboxModule,
    ChoiceField,
    Fold,
    TextField,
    FormulaEditor,
    GoLive,
  ],
  templateUrl: './knotChecks.html',
  styleUrl: './knotChecks.scss',
})
export class KnotChecks {
  protected readonly editor = inject(KnotEditor);
  readonly #trials = inject(TrialService);
  readonly #surveys = inject(Surveys);
  protected readonly readyMadeChoices: readonly Choice<number>[] = readyMadeChecks.map(({ says }, value) => ({
    value,
    says,
  }));
  protected readonly readyMade = signal(0);
  protected readonly outcomes: readonly Choice<Check['onFail']>[] = [
    { value: 'reject', says: 'the record is rejected' },
    { value: 'stop', says: 'the run stops before it writes' },
  ];
  protected readonly allFields = computed(() => fieldChoices(this.editor.definition()?.fields ?? []));
  /** Those that records hold. */
  protected readonly heldFields = computed(() =>
    fieldChoices((this.editor.definition()?.fields ?? []).filter(({ formula }) => formula === undefined)),
  );
  /** The field that a check is to be added for: the first one until another is chosen. */
  protected readonly fieldToCheck = linkedSignal<string, string>({
    source: () => this.allFields()[0]?.value ?? '',
    computation: (first, before) =>
      before && this.allFields().some(({ value }) => value === before.value) ? before.value : first,
  });
  protected readonly checks = computed((): readonly Check[] => this.editor.definition()?.checks ?? []);
  protected readonly names = computed((): readonly FormulaName[] =>
    (this.editor.definition()?.fields ?? []).map(({ id, name, type }) => ({
      name: id,
      says: `${name}, ${type}`,
      type,
    })),
  );
  readonly #question = computed(() => ({ definition: this.editor.definition(), reading: this.editor.reading() }));
  protected readonly failing = toSignal(
    toObservable(this.#question).pipe(
      debounceTime(150),
      switchMap(({ definition, reading }): Observable<Failing> => {
        if (!definition || !reading || definition.checks.length === 0) return of({});
        return combineLatest(
          definition.checks.map((check) =>
            this.#trials.check(definition, check, check.members ?? definition.members.map(({ id }) => id)).pipe(
              map((outcomes) => [
                check.id,
                Object.entries(outcomes).map(([member, outcome]) => {
                  const name = this.editor.members().find(({ id }) => id === member)?.systemName ?? member;
                  if (!outcome.ok) return { member, name, fails: 0, wrong: true, says: outcome.reason, examples: '' };
                  const { passes, trouble } = outcome.value;
                  const fails = passes.filter((passed) => !passed).length;
                  const sample = reading.members.find(({ id }) => id === member)?.sample ?? [];
                  const examples = sample
                    .filter((_, index) => passes[index] === false)
                    .slice(0, 3)
                    .map((record) => recordTitle(record, this.editor.titlePath(member)))
                    .join(' · ');
                  return {
                    member,
                    name,
                    fails,
                    wrong: trouble !== undefined,
                    says: trouble ?? `${count(fails)} of ${count(passes.length)}`,
                    examples,
                  };
                }),
              ]),
            ),
          ),
        ).pipe(map((rows) => Object.fromEntries(rows) as Failing));
      }),
    ),
    { initialValue: {} as Failing },
  );

  protected readonly isUnique = (check: Check): check is Extract<Check, { unique: string }> => 'unique' in check;

  protected set(
    index: number,
    change: { formula?: string; unique?: string; says?: string; onFail?: Check['onFail'] },
    typing = false,
  ): void {
    if (Object.values(change).some((value) => typeof value === 'string' && value.trim() === '')) return;
    this.editor.edit(
      setChecks(this.checks().map((check, at) => (at === index ? ({ ...check, ...change } as Check) : check))),
      typing ? `check ${index} ${Object.keys(change).join()}` : undefined,
    );
  }
  /** Who fails it of all records, as long as it is the check that was tried. */
  protected ofAll(
    check: Check,
  ): readonly { readonly name: string; readonly fails: number; readonly says: string; readonly examples: string }[] {
    const survey = this.#surveys.last();
    if (!survey || !this.#surveys.isCurrent()) return [];
    return this.editor.members().flatMap(({ id, systemName }) => {
      const member = survey.members[id];
      const found = member?.checks[check.id];
      return member && found
        ? [
            {
              name: systemName,
              fails: found.fails,
              says: `${count(found.fails)} of all ${count(member.takePart)}`,
              examples: found.examples.map(({ title }) => title).join(' · '),
            },
          ]
        : [];
    });
  }
  protected namesOf(ids: readonly string[]): string {
    return (
      ids.map((id) => this.editor.members().find((member) => member.id === id)?.systemName ?? id).join(', ') || 'none'
    );
  }
  protected checkedIn(index: number, check: Check, member: string, chosen: boolean): void {
    const all = this.editor.members().map(({ id }) => id);
    const now = new Set(check.members ?? all);
    if (chosen) now.add(member);
    else now.delete(member);
    const { members: _, ...rest } = check;
    const next = now.size === all.length ? rest : { ...rest, members: all.filter((id) => now.has(id)) };
    this.editor.edit(setChecks(this.checks().map((one, at) => (at === index ? next : one))));
  }
  protected drop(index: number): void {
    this.editor.edit(setChecks(this.checks().filter((_, at) => at !== index)));
  }
  protected add(): void {
    const field = this.editor.definition()?.fields.find(({ id }) => id === this.fieldToCheck());
    const made = field && readyMadeChecks[this.readyMade()]?.make(field);
    if (!field || !made) return;
    const id = freeId(
      `${field.id} check`,
      this.checks().map((check) => check.id),
    );
    // Only members that give the field can be asked for it.
    const givers = Object.entries(field.mappings).flatMap(([member, { direction }]) =>
      direction === 'to' ? [] : [member],
    );
    const isAll = field.formula !== undefined || givers.length === this.editor.members().length;
    this.editor.edit(
      setChecks([...this.checks(), { id, ...made, onFail: 'reject', ...(isAll ? {} : { members: givers }) }]),
    );
  }
}

const fieldChoices = (fields: readonly SharedField[]): Choice[] =>
  fields.map(({ id, name }) => ({ value: id, says: name }));

type Failing = Readonly<
  Record<
    string,
    readonly {
      readonly member: string;
      readonly name: string;
      readonly fails: number;
      readonly wrong: boolean;
      readonly says: string;
      readonly examples: string;
    }[]
  >
>;
