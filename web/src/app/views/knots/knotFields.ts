import { afterNextRender, ChangeDetectionStrategy, Component, computed, ElementRef, inject, Injector, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { ActivatedRoute, Router } from '@angular/router';
import { toSignal } from '@angular/core/rxjs-interop';
import type { KnotView, Proposal } from '@anchor-knot/contracts';
import { type GridMember, type GridRow, RecordGrid } from '../../grid/recordGrid';
import { Value } from '../../values/value';
import { count, plural, ruleWords, stepWords } from '../../words/sentences';
import { CellEditor } from './editor/cellEditor';
import { addField, moveMember, setFields } from './editor/draftEdits';
import { FieldEditor } from './editor/fieldEditor';
import { csvFieldTable, fieldTableCsv } from './editor/fieldTableCsv';
import { GoLive } from './editor/goLive';
import { KnotEditor } from './editor/knotEditor';
import { fieldName, recordKeyPath } from './editor/recordKey';
import { saveFile } from './editor/saveFile';

const sureEnough = 0.9;
const mostToldProblems = 12;
/** As tall as a cell with a mapping and a value; with many members the columns are narrow, and a mapping takes two lines. */
const rowHeight = 49;
const tallRowHeight = 63;
const manyMembers = 4;

/** What each cell maps to, its direction and its translation, and under it what comes of a sample record; edited at the side. */
@Component({
  selector: 'ak-knot-fields',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, RecordGrid, Value, CellEditor, FieldEditor, GoLive],
  template: `
    <div class="body">
      <div class="scroll">
        <div class="tools">
          <input type="search" placeholder="Filter" aria-label="Filter the fields" #filter [value]="sought()" (input)="sought.set(filter.value)" />
          <select aria-label="Which fields" #which (change)="only.set(which.value)"><option value="">all fields</option><option value="problem">with a problem</option><option value="proposed">proposed</option><option value="both ways">both ways</option><option value="from">from</option><option value="to">to</option></select>
          @if (editor.mayEdit()) { <button mat-button type="button" (click)="add()">Add a field</button> }
          <span class="sample">
            @switch (editor.readingState()) {
              @case ('reading') { <span class="quiet">Reading the members’ records…</span> }
              @case ('failed') { <span class="wrong">{{ editor.readingProblem()?.says }}</span> <button mat-button type="button" (click)="editor.read()">Read again</button> }
              @case ('read') {
                @if (editor.sample(); as one) {
                  <button type="button" class="link" aria-label="Sample before" (click)="editor.stepSample(-1)">before</button>
                  <select aria-label="Sample record" #pick (change)="editor.sampleAt.set(+pick.value)">@for (each of editor.reading()?.together; track $index) {<option [value]="$index" [selected]="$index === editor.sampleAt()">{{ each.title }}</option>}</select>
                  <button type="button" class="link" aria-label="Next sample" (click)="editor.stepSample(1)">next</button>
                  <button type="button" class="link" (click)="editor.goToFailing()">where it fails</button>@if (editor.failing() === false) { <small class="good">it fails on none</small> }
                } @else { <span class="quiet">no record to try it on</span> }
              }
            }
          </span>
        </div>
        @if (proposed().length > 0 && editor.mayEdit()) {
          <p class="proposals" role="status"><b>{{ plural(proposed().length, 'shared field') }} proposed.</b> <button mat-flat-button type="button" (click)="editor.accept(proposed())">Accept all</button> @if (sure().length > 0 && sure().length < proposed().length) {<button mat-stroked-button type="button" (click)="editor.accept(sure())">Accept the {{ count(sure().length) }} that are over 90 percent sure</button>}</p>
        }
        @if (taken(); as says) { <div class="banner" [class.calm]="says.ok" role="status">{{ says.first }}@for (one of says.more; track $index) {<small>{{ one }}</small>}<button mat-button type="button" (click)="taken.set(undefined)">Close</button></div> }
        @if (partly().length > 0) { <p class="note small" role="status">Of {{ partly().join(' and ') }} the first records were read. <button type="button" class="link" (click)="editor.read(true)">Read all records</button></p> }
        @for (one of troubles(); track one.id) { <div class="banner"><b>{{ one.name }}</b>: {{ one.trouble }}</div> }
        @if (rows().length === 0) {
          <p class="empty">{{ editor.readingState() === 'reading' ? 'The records of the members are being read, to propose which fields correspond.' : sought() || only() ? 'No field fits the filter.' : 'No field is shared yet. Add one, or correct what is proposed when the members can be read.' }}</p>
        } @else {
          <ak-record-grid [caption]="'Fields of ' + knot().name" fieldHint="type · who wins" anchorHint="of the sample" [rows]="rows()" [members]="members()" [tieing]="tieing()" [tone]="tone()" [class.narrow]="narrow()" [rowHeight]="rowHeight()" [mayMove]="editor.mayEdit()" (moved)="editor.edit(moveMember($event.member, $event.by))" (keydown)="keys($event)">
            <ng-template #anchor let-row>@if (editor.trial(); as trial) { @if (trial.failed[row.id]; as reason) { <span class="value wrong" [title]="reason">{{ reason }}</span> } @else { <ak-value [value]="shared(row.id)" blankAs="—" /> } } @else { <small>no sample yet</small> }</ng-template>
            <ng-template #field let-row><button type="button" class="cell head" [class.on]="chosen().field === row.id && !chosen().member" [attr.data-at]="row.id + ' '" (click)="choose(row.id, '')">{{ row.name }}<small>{{ row.hint }}</small></button></ng-template>
            <ng-template #cell let-row let-member="member">
              <button type="button" class="cell" [class.on]="chosen().field === row.id && chosen().member === member.id" [attr.data-at]="row.id + ' ' + member.id" [attr.aria-label]="cellName(row, member)" (click)="choose(row.id, member.id)">
                @if (mapping(row.id, member.id); as one) {
                  <small class="how" [title]="fieldName(one.field) + ' · ' + one.direction + words(row.id, member.id)"><span class="path">{{ fieldName(one.field) }}</span><span class="dot"> · </span><span class="rest"><b>{{ one.direction }}</b>{{ words(row.id, member.id) }}</span></small>
                  @if (tried(row.id, member.id); as now) {
                    @if (now.means && !now.means.ok) { <span class="value wrong">{{ now.means.reason }}</span> } @else if (now.written && !now.written.ok) { <span class="value wrong">{{ now.written.reason }}</span> } @else if (now.written && now.written.ok) { <span class="pair"><ak-value class="quiet" [value]="now.raw" /><ak-value class="waits" [value]="now.written.value" [against]="now.raw" /></span> } @else { <ak-value class="quiet" [value]="now.raw" /> }
                  }
                } @else if (proposedCell(row.id, member.id); as one) {
                  <small class="how waits"><span class="path">{{ one.field }}</span><span class="dot"> · </span><span class="rest">{{ percent(one.confidence) }}</span></small>
                  <small [title]="one.reasons.join('; ')">{{ one.reasons[0] }}</small>
                } @else { <small>not here</small> }
              </button>
            </ng-template>
          </ak-record-grid>
          <p class="pad table"><button type="button" class="link" (click)="download()">Download this table as CSV</button>@if (editor.mayEdit()) {<label class="link">Take in a CSV<input type="file" class="hidden" accept=".csv,text/csv" (change)="upload($event)" /></label>}</p>
        }
      </div>
      <aside aria-label="The chosen cell">
        @if (chosen().field && chosen().member) { <ak-cell-editor [fieldId]="chosen().field" [memberId]="chosen().member" /><hr /> } @else if (chosen().field) { <ak-field-editor [fieldId]="chosen().field" /><hr /> }
        <ak-go-live />
      </aside>
    </div>
  `,
  styles: `
    :host { display: block; height: 100%; } .body { height: 100%; grid-template-columns: minmax(0, 1fr) 290px; }
    .tools { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; padding: 8px 22px; border-bottom: 1px solid var(--hair-2); } .table { display: flex; gap: 16px; } .tools input { width: 120px; } .tools select { max-width: 130px; } .sample { margin-left: auto; display: flex; gap: 8px; align-items: center; } .sample select { max-width: 190px; }
    .proposals { margin: 0; padding: 5px 22px; background: var(--brass-tint); display: flex; gap: 10px; align-items: center; flex-wrap: wrap; }
    .cell { display: block; width: 100%; min-height: 38px; text-align: left; border: 0; background: none; color: inherit; font: inherit; padding: 0; cursor: pointer; } .cell.on { outline: 2px solid var(--petrol); outline-offset: 2px; } .head { font-weight: 600; } .head small { font-weight: 400; display: block; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
    .how { display: block; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; } .how b { color: var(--petrol); font-weight: 600; } .how.waits b { color: inherit; } .path { font-family: var(--values); font-size: 12px; } .cell > small { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; display: block; } .cell > .value { display: block; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-size: 12.5px; }
    .narrow .path, .narrow .rest { display: block; overflow: hidden; text-overflow: ellipsis; } .narrow .dot { display: none; }
    .pair { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 8px; } hr { border: 0; border-top: 1px solid var(--hair); margin: 16px -16px; }
    .note { margin: 0; padding: 4px 22px; } .calm { border-color: var(--kelp); }
  `,
})
export class KnotFields {
  readonly knot = input.required<KnotView>();
  protected readonly editor = inject(KnotEditor);
  readonly #router = inject(Router);
  readonly #route = inject(ActivatedRoute);
  readonly #host = inject<ElementRef<HTMLElement>>(ElementRef);
  readonly #injector = inject(Injector);
  readonly #query = toSignal(this.#route.queryParamMap);
  protected readonly count = count;
  protected readonly moveMember = moveMember;
  protected readonly fieldName = fieldName;
  protected readonly narrow = computed(() => this.members().length >= manyMembers);
  protected readonly rowHeight = computed(() => (this.narrow() ? tallRowHeight : rowHeight));
  /** What came of a table that was taken in. */
  protected readonly taken = signal<{ readonly ok: boolean; readonly first: string; readonly more: readonly string[] } | undefined>(undefined);
  protected readonly plural = plural;
  protected readonly sought = signal('');
  protected readonly only = signal('');
  /** The chosen cell lives in the address. */
  protected readonly chosen = computed(() => ({ field: this.#query()?.get('field') ?? '', member: this.#query()?.get('member') ?? '' }));
  protected readonly proposed = this.editor.proposals;
  protected readonly sure = computed(() => this.proposed().filter(({ cells }) => cells.every(({ confidence }) => confidence >= sureEnough)));
  protected readonly troubles = computed(() =>
    (this.editor.reading()?.members ?? []).flatMap(({ id, trouble }) =>
      trouble === null ? [] : [{ id, trouble, name: this.editor.members().find((member) => member.id === id)?.systemName ?? id }],
    ),
  );
  /** The systems of which not all records were read. */
  protected readonly partly = computed(() =>
    (this.editor.reading()?.members ?? []).flatMap(({ id, complete }) => (complete ? [] : [this.editor.members().find((member) => member.id === id)?.systemName ?? id])),
  );
  protected readonly rows = computed((): GridRow[] => {
    const fields = this.editor.definition()?.fields ?? [];
    const rows = [
      ...fields.map((field): GridRow => ({
        id: field.id,
        name: field.name,
        hint: field.formula === undefined ? `${field.type} · ${ruleWords(field.rule, this.editor.members())}` : `${field.type} · computed`,
      })),
      ...this.proposed().flatMap((one): GridRow[] => (one.isNew ? [{ id: one.id, name: one.name, hint: `${one.type} · proposed` }] : [])),
    ];
    const sought = this.sought().toLowerCase();
    return rows.filter((row) => this.#text(row).includes(sought) && this.#fits(row.id));
  });
  protected readonly members = computed((): GridMember[] =>
    this.editor.members().map((member) => {
      const ties = this.knot().version === 0 ? undefined : this.knot().members.find(({ id }) => id === member.id)?.ties;
      return { ...member, hint: ties === undefined ? member.object : `${member.object} · ${count(ties)} tied`, link: null };
    }),
  );
  protected readonly tieing = computed(() => (row: GridRow, member: GridMember) => this.mapping(row.id, member.id)?.direction ?? null);
  protected readonly tone = computed(() => (row: GridRow, member: GridMember) => {
    if (!this.mapping(row.id, member.id)) return this.proposedCell(row.id, member.id) ? 'waits' : 'plain';
    return this.editor.findings().some(({ kind, at }) => kind === 'stops' && at.startsWith(`fields.${row.id}.mappings.${member.id}`)) ? 'wrong' : 'plain';
  });

  #text(row: GridRow): string {
    const field = this.editor.definition()?.fields.find(({ id }) => id === row.id);
    return `${row.name} ${row.hint ?? ''} ${Object.values(field?.mappings ?? {})
      .map((mapping) => mapping.field)
      .join(' ')}`.toLowerCase();
  }
  #fits(id: string): boolean {
    const only = this.only();
    if (only === '') return true;
    if (only === 'problem') return this.editor.findings().some(({ at }) => at === `fields.${id}` || at.startsWith(`fields.${id}.`));
    if (only === 'proposed') return this.proposed().some((one) => one.id === id);
    return Object.values(this.editor.definition()?.fields.find((field) => field.id === id)?.mappings ?? {}).some(({ direction }) => direction === only);
  }

  protected mapping(field: string, member: string) {
    return this.editor.definition()?.fields.find(({ id }) => id === field)?.mappings[member];
  }
  protected proposedCell(field: string, member: string): Proposal['cells'][number] | undefined {
    return this.proposed()
      .find(({ id }) => id === field)
      ?.cells.find((cell) => cell.member === member);
  }
  protected words(field: string, member: string): string {
    const definition = this.editor.definition();
    const steps = this.mapping(field, member)?.steps ?? [];
    return definition ? steps.map((step) => ` · ${stepWords(step, definition)}`).join('') : '';
  }
  protected tried(field: string, member: string) {
    return this.editor.trial()?.cells[field]?.[member];
  }
  protected shared(field: string): unknown {
    return this.editor.trial()?.shared[field] ?? null;
  }
  protected readonly percent = (share: number): string => `${Math.floor(share * 100)} % sure`;
  protected cellName(row: GridRow, member: GridMember): string {
    const mapping = this.mapping(row.id, member.id);
    return `${row.name} in ${member.systemName}: ${mapping ? `${mapping.direction} ${mapping.field}` : this.proposedCell(row.id, member.id) ? 'proposed' : 'not here'}`;
  }

  protected choose(field: string, member: string): void {
    void this.#router.navigate([], { relativeTo: this.#route, queryParams: { field: field || null, member: member || null }, replaceUrl: true });
  }
  protected download(): void {
    const definition = this.editor.definition();
    if (definition) saveFile(`${definition.id}.fields.csv`, 'text/csv', fieldTableCsv(definition));
  }
  protected upload(event: Event): void {
    const input = event.target as HTMLInputElement;
    const [file] = input.files ?? [];
    const known = Object.fromEntries(
      (this.editor.reading()?.members ?? []).filter(({ trouble }) => trouble === null).map(({ id, fields }) => [id, new Set([...fields.map(({ path }) => path), recordKeyPath])]),
    );
    void file?.text().then((text) => {
      const definition = this.editor.definition();
      if (!definition) return;
      const read = csvFieldTable(text, definition, known);
      if (!read.ok) {
        const more = read.problems.slice(0, mostToldProblems);
        const rest = read.problems.length - more.length;
        this.taken.set({ ok: false, first: `“${file.name}” was not taken in; nothing was changed.`, more: rest > 0 ? [...more, `and ${plural(rest, 'more problem')}`] : more });
        return;
      }
      this.editor.edit(setFields(read.fields));
      this.taken.set({ ok: true, first: `${plural(read.changed, 'field')} changed, ${count(read.added)} added. It can be undone.`, more: [] });
    });
    input.value = '';
  }
  protected add(): void {
    this.editor.edit(addField('New field'));
    const added = this.editor.definition()?.fields.at(-1);
    if (!added) return;
    this.choose(added.id, '');
    afterNextRender(() => this.#host.nativeElement.querySelector(`[data-at="${added.id} "]`)?.scrollIntoView({ block: 'nearest' }), { injector: this.#injector });
  }
  /** Arrows go from cell to cell; with Alt, a member's column moves. */
  protected keys(event: KeyboardEvent): void {
    const at = (event.target as HTMLElement).closest('[data-at]')?.getAttribute('data-at');
    const steps: Readonly<Record<string, readonly [number, number]>> = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] };
    const step = steps[event.key];
    if (at === undefined || at === null || !step) return;
    event.preventDefault();
    const [field = '', member = ''] = at.split(' ');
    if (event.altKey && member !== '' && step[0] === 0) {
      this.editor.edit(moveMember(member, step[1]));
      return;
    }
    const columns = ['', ...this.members().map(({ id }) => id)];
    const rows = this.rows().map(({ id }) => id);
    const row = rows[Math.max(0, Math.min(rows.length - 1, rows.indexOf(field) + step[0]))] ?? field;
    const column = columns[Math.max(0, Math.min(columns.length - 1, columns.indexOf(member) + step[1]))] ?? '';
    this.#host.nativeElement.querySelector<HTMLElement>(`[data-at="${row} ${column}"]`)?.focus();
  }
}
