import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { NewField, Proposal } from '@anchor-knot/contracts';
import { Api } from '../../../api/api';
import { Asking } from '../../../api/asking';
import { SessionService } from '../../../api/session';
import { Pennant } from '../../../pennant/pennant';
import { Value } from '../../../values/value';
import { count } from '../../../words/sentences';
import { mapTo, type Mapping, setMapping, type Step, unmap } from './draftEdits';
import { KnotEditor } from './knotEditor';
import { fieldName, recordKeyPath } from './recordKey';
import { StepChain } from './stepChain';

type NewFieldType = NewField['type'];

const directions = [
  { value: 'from', says: 'it gives the value' },
  { value: 'to', says: 'it is given the agreed one' },
  { value: 'both ways', says: 'an edit on either side crosses' },
] as const;

/** One cell: which field, which direction, which translation, and what comes of it on the sample record. */
@Component({
  selector: 'ak-cell-editor',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, Pennant, Value, StepChain],
  template: `
    @if (field(); as shared) { @if (member(); as one) {
      <h2>{{ shared.name }}</h2>
      <p class="small"><ak-pennant [settings]="one.pennant" [name]="one.systemName" [shown]="true" /></p>
      @if (proposed(); as cell) {
        <h3>Proposed: <span class="value">{{ fieldName(cell.field) }}</span></h3>
        <p class="small">{{ percent(cell.confidence) }} sure. {{ cell.direction }}.</p>
        <ul class="reasons">@for (reason of cell.reasons; track reason) {<li>{{ reason }}</li>}</ul>
        @if (editor.mayEdit()) { <p class="acts"><button mat-flat-button type="button" (click)="acceptIt()">Accept</button><button mat-button type="button" (click)="turnDown()">Turn down</button></p> }
      }
      @if (mapping(); as now) {
        <section>
          <div class="label">Sample</div>
          <dl class="sample">
            <dt>there</dt><dd><ak-value [value]="tried()?.raw" blankAs="blank or not sent" /></dd>
            @if (tried()?.means; as means) { <dt>means</dt><dd>@if (means.ok) {<ak-value [value]="means.value" />} @else {<span class="wrong">{{ means.reason }}</span>}</dd> }
            @if (tried()?.written; as written) { <dt>would be</dt><dd>@if (written.ok) {<ak-value class="waits" [value]="written.value" />} @else {<span class="wrong">{{ written.reason }}</span>}</dd> }
          </dl>
        </section>
        @for (finding of findings(); track finding.says) { <p class="finding" [class.wrong]="finding.kind === 'stops'" [class.waits]="finding.kind === 'warns'">{{ finding.says }}</p> }
        <fieldset [disabled]="!editor.mayEdit()"><legend>Direction</legend>@for (one of shownDirections(); track one.value) {<label class="line"><input type="radio" name="direction" [value]="one.value" [checked]="now.direction === one.value" (change)="set({ direction: one.value })" /> <b>{{ one.value }}</b>&ngsp;<small>{{ one.says }}</small></label>}</fieldset>
        <div class="label">Translation, from there to here</div>
        <ak-step-chain [steps]="now.steps" [crosswalks]="editor.definition()?.crosswalks ?? {}" [mayEdit]="editor.mayEdit()" [recordAddress]="recordAddress()" (changed)="steps($event)" />
        <details><summary>Blanks and hand edits</summary>
          <label class="line"><input type="checkbox" [disabled]="!editor.mayEdit()" [checked]="now.absentMeansBlank" (change)="set({ absentMeansBlank: $any($event.target).checked })" /> what is not sent is blank</label>
          <label>A blank is written as<select [disabled]="!editor.mayEdit()" (change)="set({ blankAs: $any($event.target).value })"><option value="null" [selected]="now.blankAs === 'null'">nothing (null)</option><option value="empty text" [selected]="now.blankAs === 'empty text'">an empty text</option></select></label>
          @if (now.direction === 'to') { <label>Edited there by hand<select [disabled]="!editor.mayEdit()" (change)="set({ drift: $any($event.target).value })"><option value="put back" [selected]="now.drift === 'put back'">put back</option><option value="leave" [selected]="now.drift === 'leave'">leave until the agreed value changes</option></select></label> }
        </details>
      }
      <div class="label">{{ mapping() ? 'Field there' : 'Choose a field' }}</div>
      <input type="search" placeholder="Search fields" aria-label="Search fields" #search [value]="sought()" (input)="sought.set(search.value)" />
      <div class="fields" role="group" aria-label="Fields there">
        @for (one of shownFields(); track one.path) {
          <button type="button" [attr.aria-pressed]="one.path === mapping()?.field" [class.on]="one.path === mapping()?.field" [disabled]="!editor.mayEdit()" (click)="choose(one.path)">
            <span class="value">{{ fieldName(one.path) }}</span> <small>{{ one.type }} · {{ fill(one.filled) }}{{ one.required ? ' · required' : '' }}{{ one.readOnly ? ' · read only' : '' }}{{ usedBy(one.path) ? ' · used by ' + usedBy(one.path) : '' }}</small>
            <small class="examples">{{ one.examples.join(' · ') }}</small>
          </button>
        } @empty { <p class="small quiet">{{ editor.readingState() === 'reading' ? 'Reading what is there…' : sought() ? 'No field fits.' : 'Nothing was read yet.' }}</p> }
      </div>
      @if (newTypes().length > 0 && mayAdd()) {
        <details><summary>Add a field there</summary>
          <p class="small">It is created in {{ one.systemName }} itself, for everybody who works there.</p>
          <label>Name<input maxlength="100" #newName [value]="shared.name" /></label>
          <label>Type<select #newType>@for (type of newTypes(); track type) {<option [value]="type" [selected]="type === shared.type">{{ type }}</option>}</select></label>
          @if (adding.problem(); as problem) { <p class="wrong small" role="alert">{{ problem.says }} {{ problem.advice }}</p> }
          <p><button mat-stroked-button type="button" [disabled]="adding.busy()" (click)="addThere(newName.value, newType.value)">Create it in {{ one.systemName }}</button></p>
        </details>
      } @else if (!mapping() && editor.readingState() === 'read') { <p class="small quiet">{{ newTypes().length > 0 ? 'An administrator can add a field there.' : one.systemName + ' lets no field be added from here: without a fitting one, this field has no place there.' }}</p> }
      @if (mapping() && editor.mayEdit()) { <p><button mat-button type="button" (click)="remove()">Remove this mapping</button></p> }
    } }
  `,
  styles: `
    h2 { margin: 0; } h3 { margin: 10px 0 2px; font-size: 14px; } .label, legend { font-size: 12.5px; color: var(--ink-2); margin: 12px 0 2px; padding: 0; } fieldset { border: 0; padding: 0; margin: 0; } label { display: block; font-size: 12.5px; color: var(--ink-2); margin-top: 5px; } .line { font-size: 13.5px; color: var(--ink); } .line small { color: var(--ink-2); margin-left: 4px; } .line input { margin: 0 6px 0 0; vertical-align: -1px; }
    .sample { display: grid; grid-template-columns: 62px minmax(0, 1fr); gap: 2px 8px; margin: 0; background: var(--sheet); padding: 6px 8px; } dt { color: var(--ink-2); font-size: 12.5px; } dd { margin: 0; min-width: 0; font-size: 13px; overflow-wrap: anywhere; }
    .finding { font-size: 13px; margin: 6px 0; padding-left: 9px; border-left: 3px solid currentColor; overflow-wrap: anywhere; }
    input[type='search'], select { width: 100%; box-sizing: border-box; } .fields { max-height: 320px; overflow: auto; border: 1px solid var(--hair-2); margin-top: 4px; background: var(--sheet); }
    .fields button { display: block; width: 100%; text-align: left; border: 0; border-bottom: 1px solid var(--hair-2); background: none; color: inherit; font: inherit; padding: 5px 8px; cursor: pointer; } .fields button.on { background: var(--petrol-tint); } .fields small { display: block; } .examples { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-family: var(--values); font-size: 12px; }
    .reasons { margin: 4px 0; } .acts { display: flex; gap: 8px; } details { margin-top: 10px; font-size: 13px; } summary { cursor: pointer; }
  `,
})
export class CellEditor {
  readonly fieldId = input.required<string>();
  readonly memberId = input.required<string>();
  protected readonly editor = inject(KnotEditor);
  protected readonly fieldName = fieldName;
  protected readonly sought = signal('');
  protected readonly proposal = computed((): Proposal | undefined => this.editor.proposals().find(({ id }) => id === this.fieldId()));
  protected readonly field = computed(() => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId()) ?? this.proposal());
  protected readonly member = computed(() => this.editor.members().find(({ id }) => id === this.memberId()));
  protected readonly mapping = computed(() => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId())?.mappings[this.memberId()]);
  protected readonly proposed = computed(() => this.proposal()?.cells.find(({ member }) => member === this.memberId()));
  protected readonly tried = computed(() => this.editor.trial()?.cells[this.fieldId()]?.[this.memberId()]);
  protected readonly findings = computed(() => this.editor.findings().filter(({ at }) => at.startsWith(`fields.${this.fieldId()}.mappings.${this.memberId()}`)));
  readonly #there = computed(() => this.editor.reading()?.members.find(({ id }) => id === this.memberId()));
  protected readonly shownDirections = computed(() => (this.#isComputed() ? directions.filter(({ value }) => value === 'to') : directions));
  readonly #isComputed = computed(() => this.editor.definition()?.fields.find(({ id }) => id === this.fieldId())?.formula !== undefined);
  readonly #session = inject(SessionService);
  readonly #api = inject(Api);
  protected readonly adding = new Asking();
  protected readonly newTypes = computed(() => this.#there()?.newFieldTypes ?? []);
  protected readonly mayAdd = computed(() => this.#session.may('administrator'));
  /** Where the records of the member that gives its key are shown. */
  protected readonly recordAddress = computed(() => {
    const definition = this.editor.definition();
    const giver = Object.entries(definition?.fields.find(({ id }) => id === this.fieldId())?.mappings ?? {}).find(([, { field }]) => field === recordKeyPath)?.[0];
    const page = this.editor.systems().find(({ id }) => id === definition?.members.find((member) => member.id === giver)?.system)?.pageAddress;
    return page ? `${page}/records/{key}` : undefined;
  });
  readonly #allFields = computed(() => {
    const there = this.#there();
    if (!there || there.key === '' || this.#isComputed()) return there?.fields ?? [];
    const examples = there.sample.slice(0, 3).map((record) => String(record[recordKeyPath] ?? ''));
    const ownKey = { path: recordKeyPath, type: 'key', filled: there.records, distinct: there.records, examples, required: false, readOnly: true, choices: null, longest: null };
    return [...there.fields, ownKey];
  });
  protected readonly shownFields = computed(() => {
    const sought = this.sought().toLowerCase();
    return this.#allFields().filter(({ path, examples }) => `${path} ${examples.join(' ')}`.toLowerCase().includes(sought));
  });
  protected readonly percent = (share: number): string => `${Math.floor(share * 100)} percent`;

  protected fill(filled: number): string {
    const records = this.#there()?.records ?? 0;
    return records === 0 ? 'no record' : filled === records ? 'always filled' : `filled in ${count(filled)} of ${count(records)}`;
  }
  protected usedBy(path: string): string {
    return this.editor.definition()?.fields.find(({ id, mappings }) => id !== this.fieldId() && mappings[this.memberId()]?.field === path)?.name ?? '';
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
    this.editor.edit(mapTo(this.fieldId(), this.memberId(), path, may && !field?.readOnly));
  }
  /** Creates the field in the system, maps it, and reads the object anew. */
  protected addThere(name: string, type: string): void {
    const member = this.editor.definition()?.members.find(({ id }) => id === this.memberId());
    if (!member || name.trim() === '') return;
    this.adding.ask(this.#api.addField(member.system, member.object, { name: name.trim(), type: type as NewFieldType }), (path) => {
      this.choose(path);
      this.editor.readWhenSaved(true);
    });
  }
  protected set(change: Partial<Mapping>): void {
    this.editor.edit(setMapping(this.fieldId(), this.memberId(), change));
  }
  protected steps(steps: readonly Step[]): void {
    this.editor.edit(setMapping(this.fieldId(), this.memberId(), { steps: [...steps] }), `${this.fieldId()} ${this.memberId()} steps ${steps.length}`);
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
