import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatListModule } from '@angular/material/list';
import { MatRadioModule } from '@angular/material/radio';
import type { NewField, Proposal } from '@anchor-knot/contracts';
import { mapTo, refersIn, setMapping, type Mapping, type Step, unmap } from '@anchor-knot/core';
import { SystemsApi } from '../../../api/systemsApi';
import { Asking } from '../../../api/asking';
import { SessionService } from '../../../api/session';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { Fold } from '../../../fields/fold';
import { NewFieldForm } from '../../../fields/newFieldForm';
import { TextField } from '../../../fields/textField';
import { Pennant } from '../../../pennant/pennant';
import { Value } from '../../../values/value';
import { count } from '../../../words/sentences';
import { KnotEditor } from './knotEditor';
import { fieldName, recordKeyPath } from './recordKey';
import { StepChain } from './stepChain';
import { ProblemText } from '../../problem';

const directions = [
  { value: 'from', says: 'it gives the value' },
  { value: 'to', says: 'it is given the agreed one' },
  { value: 'both ways', says: 'an edit on either side crosses' },
] as const;
const blanks: readonly Choice<Mapping['blankAs']>[] = [
  { value: 'null', says: 'nothing (null)' },
  { value: 'empty text', says: 'an empty text' },
];
const drifts: readonly Choice<Mapping['drift']>[] = [
  { value: 'put back', says: 'put back' },
  { value: 'leave', says: 'leave until the agreed value changes' },
];

/** One cell: which field, which direction, which translation, and what comes of it on the sample record. */
@Component({
  selector: 'ak-cell-editor',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ProblemText,
    MatButtonModule,
    MatCheckboxModule,
    MatListModule,
    MatRadioModule,
    ChoiceField,
    Fold,
    NewFieldForm,
    Pennant,
    StepChain,
    TextField,
    Value,
  ],
  templateUrl: './cellEditor.html',
  styleUrl: './cellEditor.scss',
})
export class CellEditor {
  readonly fieldId = input.required<string>();
  readonly memberId = input.required<string>();
  protected readonly editor = inject(KnotEditor);
  protected readonly fieldName = fieldName;
  protected readonly sought = signal('');
  protected readonly blanks = blanks;
  protected readonly drifts = drifts;
  /** How blanks and hand edits are taken now, said where they are folded. */
  protected readonly settingWords = ({ absentMeansBlank, blankAs, direction, drift }: Mapping): string =>
    [
      absentMeansBlank ? 'not sent is blank' : 'not sent is as before',
      `blanks as ${blankAs === 'null' ? 'nothing' : 'an empty text'}`,
      ...(direction === 'to' ? [drift === 'leave' ? 'hand edits stay' : 'hand edits put back'] : []),
    ].join(', ');
  protected readonly proposal = computed((): Proposal | undefined =>
    this.editor.proposals().find(({ id }) => id === this.fieldId()),
  );
  protected readonly field = computed(
    () => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId()) ?? this.proposal(),
  );
  protected readonly member = computed(() => this.editor.members().find(({ id }) => id === this.memberId()));
  protected readonly mapping = computed(
    () => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId())?.mappings[this.memberId()],
  );
  protected readonly proposed = computed(() => this.proposal()?.cells.find(({ member }) => member === this.memberId()));
  protected readonly tried = computed(() => this.editor.trial()?.cells[this.fieldId()]?.[this.memberId()]);
  protected readonly findings = computed(() =>
    this.editor.findings().filter(({ at }) => at.startsWith(`fields.${this.fieldId()}.mappings.${this.memberId()}`)),
  );
  readonly #there = computed(() => this.editor.reading()?.members.find(({ id }) => id === this.memberId()));
  protected readonly shownDirections = computed(() =>
    this.#isComputed() ? directions.filter(({ value }) => value === 'to') : directions,
  );
  protected readonly refersTo = computed(
    () => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId())?.refersTo,
  );
  readonly #isComputed = computed(
    () => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId())?.formula !== undefined,
  );
  readonly #session = inject(SessionService);
  readonly #api = inject(SystemsApi);
  protected readonly adding = new Asking();
  protected readonly newTypes = computed(() => this.#there()?.newFieldTypes ?? []);
  protected readonly mayAdd = computed(() => this.#session.may('administrator'));
  /** Where the records of the member that gives its key are shown. */
  protected readonly recordAddress = computed(() => {
    const definition = this.editor.definition();
    const giver = Object.entries(definition?.fields.find(({ id }) => id === this.fieldId())?.mappings ?? {}).find(
      ([, { field }]) => field === recordKeyPath,
    )?.[0];
    return this.editor.members().find(({ id }) => id === giver)?.recordPage ?? undefined;
  });
  readonly #allFields = computed(() => {
    const there = this.#there();
    if (!there || there.key === '' || this.#isComputed()) return there?.fields ?? [];
    const examples = there.sample.slice(0, 3).map((record) => String(record[recordKeyPath] ?? ''));
    const ownKey = {
      path: recordKeyPath,
      type: 'key',
      filled: there.records,
      distinct: there.records,
      examples,
      required: false,
      readOnly: true,
      choices: null,
      longest: null,
    };
    return [...there.fields, ownKey];
  });
  protected readonly shownFields = computed(() => {
    const sought = this.sought().toLowerCase();
    return this.#allFields().filter(({ path, examples }) =>
      `${path} ${examples.join(' ')}`.toLowerCase().includes(sought),
    );
  });
  protected readonly percent = (share: number): string => `${Math.floor(share * 100)} percent`;

  protected fill(filled: number): string {
    const records = this.#there()?.records ?? 0;
    return records === 0
      ? 'no record'
      : filled === records
        ? 'always filled'
        : `filled in ${count(filled)} of ${count(records)}`;
  }
  protected usedBy(path: string): string {
    return (
      this.editor
        .definition()
        ?.fields.find(({ id, mappings }) => id !== this.fieldId() && mappings[this.memberId()]?.field === path)?.name ??
      ''
    );
  }
  protected choose(path: string): void {
    const field = this.#allFields().find((one) => one.path === path);
    const may = this.editor.definition()?.members.find(({ id }) => id === this.memberId())?.may.update ?? false;
    const proposal = this.proposal();
    // A proposed shared field that is corrected is taken on with what was chosen instead.
    if (proposal && !this.mapping() && proposal.isNew) {
      const cells = proposal.cells.filter(({ member }) => member !== this.memberId());
      this.editor.accept([{ ...proposal, cells }]);
    }
    const refersTo = this.refersTo();
    const target = refersTo === undefined ? undefined : this.editor.targets.definitions()[refersTo];
    const mapping = mapTo(this.fieldId(), this.memberId(), path, may && !field?.readOnly);
    this.editor.edit(
      target ? (definition) => refersIn(this.fieldId(), this.memberId(), target)(mapping(definition)) : mapping,
    );
  }
  /** Creates the field in the system, maps it, and reads the object anew. */
  protected addThere(field: NewField): void {
    const member = this.editor.definition()?.members.find(({ id }) => id === this.memberId());
    if (!member) return;
    this.adding.ask(this.#api.addField(member.system, member.object, field), (path) => {
      this.choose(path);
      this.editor.readWhenSaved(true);
    });
  }
  protected set(change: Partial<Mapping>): void {
    this.editor.edit(setMapping(this.fieldId(), this.memberId(), change));
  }
  protected steps(steps: readonly Step[]): void {
    this.editor.edit(
      setMapping(this.fieldId(), this.memberId(), { steps: [...steps] }),
      `${this.fieldId()} ${this.memberId()} steps ${steps.length}`,
    );
  }
  protected remove(): void {
    this.editor.edit(unmap(this.fieldId(), this.memberId()));
  }
  protected acceptIt(): void {
    const [proposal, cell] = [this.proposal(), this.proposed()];
    if (!proposal || !cell) return;
    // A shared field needs two members to mean something: a new one is taken on whole.
    this.editor.accept([proposal.isNew ? proposal : { ...proposal, cells: [cell] }]);
  }
  protected turnDown(): void {
    const proposal = this.proposal();
    if (proposal) this.editor.turnDown(proposal, this.memberId());
  }
}
