import {
  afterNextRender,
  ChangeDetectionStrategy,
  Component,
  computed,
  ElementRef,
  inject,
  Injector,
  input,
  signal,
} from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatMenuModule } from '@angular/material/menu';
import { ActivatedRoute, Router } from '@angular/router';
import { toSignal } from '@angular/core/rxjs-interop';
import { type KnotView, type Proposal, thingOf } from '@anchor-knot/contracts';
import { MatTooltip } from '@angular/material/tooltip';
import { addField, moveMember, setFields, takeFields, type FieldThere, type Outcome } from '@anchor-knot/core';
import { type GridMember, type GridRow, RecordGrid } from '../../grid/recordGrid';
import { type Choice, ChoiceField } from '../../fields/choiceField';
import { FileButton } from '../../fields/fileButton';
import { TextField } from '../../fields/textField';
import { Value } from '../../values/value';
import { count, plural, ruleWords, stepWords } from '../../words/sentences';
import { CellEditor } from './editor/cellEditor';
import { FieldEditor } from './editor/fieldEditor';
import { csvFieldTable, fieldTableCsv } from './editor/fieldTableCsv';
import { WithSide } from '../../layout/withSide';
import { GoLive } from './editor/goLive';
import { KnotEditor } from './editor/knotEditor';
import { fieldName, recordKeyPath } from './editor/recordKey';
import { Downloads } from '../../telling/downloads';
import { WholeText } from '../../values/wholeText';

const sureEnough = 0.9;
const mostToldProblems = 12;
/**
 * As tall as a cell with a mapping and a value; with many members the columns are narrow, and a mapping takes two
 * lines.
 */
const rowHeight = 49;
const tallRowHeight = 63;
const manyMembers = 4;

type Filter = '' | 'problem' | 'proposed' | 'both ways' | 'from' | 'to';
const filters: readonly Choice<Filter>[] = [
  { value: '', says: 'all fields' },
  { value: 'problem', says: 'with a problem' },
  { value: 'proposed', says: 'proposed' },
  { value: 'both ways', says: 'both ways' },
  { value: 'from', says: 'from' },
  { value: 'to', says: 'to' },
];

/**
 * What each cell maps to, its direction and its translation, and under it what comes of a sample record; edited at the
 * side.
 */
@Component({
  selector: 'ak-knot-fields',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    WithSide,
    MatButtonModule,
    MatMenuModule,
    CellEditor,
    ChoiceField,
    FieldEditor,
    FileButton,
    GoLive,
    RecordGrid,
    TextField,
    Value,
    WholeText,
    MatTooltip,
  ],
  templateUrl: './knotFields.html',
  styleUrl: './knotFields.scss',
})
export class KnotFields {
  readonly knot = input.required<KnotView>();
  protected readonly editor = inject(KnotEditor);
  readonly #router = inject(Router);
  readonly #downloads = inject(Downloads);
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
  protected readonly taken = signal<
    { readonly ok: boolean; readonly first: string; readonly more: readonly string[] } | undefined
  >(undefined);
  protected readonly plural = plural;
  protected readonly sought = signal('');
  protected readonly only = signal<Filter>('');
  protected readonly filters = filters;
  protected readonly samples = computed((): Choice<number>[] =>
    (this.editor.reading()?.together ?? []).map(({ title }, value) => ({ value, says: title })),
  );
  /** The chosen cell lives in the address. */
  protected readonly chosen = computed(() => ({
    field: this.#query()?.get('field') ?? '',
    member: this.#query()?.get('member') ?? '',
  }));
  protected readonly proposed = this.editor.proposals;
  protected readonly sure = computed(() =>
    this.proposed().filter(({ cells }) => cells.every(({ confidence }) => confidence >= sureEnough)),
  );
  protected readonly troubles = computed(() =>
    (this.editor.reading()?.members ?? []).flatMap(({ id, trouble }) =>
      trouble === null
        ? []
        : [{ id, trouble, name: this.editor.members().find((member) => member.id === id)?.systemName ?? id }],
    ),
  );
  /** The systems of which not all records were read. */
  protected readonly partly = computed(() =>
    (this.editor.reading()?.members ?? []).flatMap(({ id, complete }) =>
      complete ? [] : [this.editor.members().find((member) => member.id === id)?.systemName ?? id],
    ),
  );
  protected readonly rows = computed((): GridRow[] => {
    const fields = this.editor.definition()?.fields ?? [];
    const rows = [
      ...fields.map((field): GridRow => ({
        id: field.id,
        name: field.name,
        hint:
          field.formula === undefined
            ? `${field.type} · ${ruleWords(field.rule, this.editor.members())}`
            : `${field.type} · computed`,
      })),
      ...this.proposed().flatMap((one): GridRow[] =>
        one.isNew ? [{ id: one.id, name: one.name, hint: `${one.type} · proposed` }] : [],
      ),
    ];
    const sought = this.sought().toLowerCase();
    return rows.filter((row) => this.#text(row).includes(sought) && this.#fits(row.id));
  });
  protected readonly members = computed((): GridMember[] =>
    this.editor.members().map((member) => {
      const ties = this.knot().version === 0 ? undefined : this.knot().members.find(({ id }) => id === member.id)?.ties;
      return {
        ...member,
        hint: ties === undefined ? member.object : `${member.object} · ${count(ties)} tied`,
        link: null,
      };
    }),
  );
  protected readonly tieing = computed(
    () => (row: GridRow, member: GridMember) => this.mapping(row.id, member.id)?.direction ?? null,
  );
  protected readonly tone = computed(() => (row: GridRow, member: GridMember) => {
    if (!this.mapping(row.id, member.id)) return this.proposedCell(row.id, member.id) ? 'waits' : 'plain';
    return this.editor
      .findings()
      .some(({ kind, at }) => kind === 'stops' && at.startsWith(`fields.${row.id}.mappings.${member.id}`))
      ? 'wrong'
      : 'plain';
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
    if (only === 'problem')
      return this.editor.findings().some(({ at }) => at === `fields.${id}` || at.startsWith(`fields.${id}.`));
    if (only === 'proposed') return this.proposed().some((one) => one.id === id);
    return Object.values(this.editor.definition()?.fields.find((field) => field.id === id)?.mappings ?? {}).some(
      ({ direction }) => direction === only,
    );
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
    return this.editor.shown(field, this.editor.trial()?.shared[field] ?? null);
  }
  /** What the record refers to is called, where the field holds things of another knot. */
  protected thingName(field: string, means: Outcome<unknown> | undefined): string | undefined {
    return means?.ok ? thingOf(this.editor.shown(field, means.value))?.title : undefined;
  }
  protected readonly percent = (share: number): string => `${Math.floor(share * 100)} % sure`;
  protected cellName(row: GridRow, member: GridMember): string {
    const mapping = this.mapping(row.id, member.id);
    const none = this.proposedCell(row.id, member.id) ? 'proposed' : 'not here';
    return `${row.name} in ${member.systemName}: ${mapping ? `${mapping.direction} ${mapping.field}` : none}`;
  }

  protected choose(field: string, member: string): void {
    void this.#router.navigate([], {
      relativeTo: this.#route,
      queryParams: { field: field || null, member: member || null },
      replaceUrl: true,
    });
  }
  /** How many fields of each member are mapped, and which are not. */
  protected readonly mappedOf = computed(() => {
    const fields = this.editor.definition()?.fields ?? [];
    return this.editor.members().map(({ id, systemName }) => {
      const there = this.editor.reading()?.members.find((member) => member.id === id)?.fields ?? [];
      const mapped = new Set(fields.flatMap(({ mappings }) => mappings[id]?.field ?? []));
      const free = there.filter(({ path }) => !mapped.has(path));
      const says =
        there.length === 0
          ? 'not read yet'
          : `${count(there.length - free.length)} of ${plural(there.length, 'field')} mapped`;
      return { id, name: systemName, free, says };
    });
  });
  /** Every field of a member that is not mapped becomes a shared one; it can be undone. */
  protected takeAll({ id, name, free }: { id: string; name: string; free: readonly FieldThere[] }): void {
    this.editor.edit(takeFields(id, free));
    this.taken.set({
      ok: true,
      first: `${plural(free.length, 'field')} of ${name} taken as shared fields. It can be undone.`,
      more: [],
    });
  }
  protected download(): void {
    const definition = this.editor.definition();
    if (definition) this.#downloads.save(`${definition.id}.fields.csv`, 'text/csv', fieldTableCsv(definition));
  }
  protected upload(file: File): void {
    const known = Object.fromEntries(
      (this.editor.reading()?.members ?? [])
        .filter(({ trouble }) => trouble === null)
        .map(({ id, fields }) => [id, new Set([...fields.map(({ path }) => path), recordKeyPath])]),
    );
    void file.text().then((text) => {
      const definition = this.editor.definition();
      if (!definition) return;
      const read = csvFieldTable(text, definition, known);
      if (!read.ok) {
        const more = read.problems.slice(0, mostToldProblems);
        const rest = read.problems.length - more.length;
        this.taken.set({
          ok: false,
          first: `“${file.name}” was not taken in; nothing was changed.`,
          more: rest > 0 ? [...more, `and ${plural(rest, 'more problem')}`] : more,
        });
        return;
      }
      this.editor.edit(setFields(read.fields));
      this.taken.set({
        ok: true,
        first: `${plural(read.changed, 'field')} changed, ${count(read.added)} added. It can be undone.`,
        more: [],
      });
    });
  }
  protected add(): void {
    this.editor.edit(addField('New field'));
    const added = this.editor.definition()?.fields.at(-1);
    if (!added) return;
    this.choose(added.id, '');
    afterNextRender(
      () => this.#host.nativeElement.querySelector(`[data-at="${added.id} "]`)?.scrollIntoView({ block: 'nearest' }),
      { injector: this.#injector },
    );
  }
  /** Arrows go from cell to cell; with Alt, a member's column moves. */
  protected keys(event: KeyboardEvent): void {
    const at = (event.target as HTMLElement).closest('[data-at]')?.getAttribute('data-at');
    const steps: Readonly<Record<string, readonly [number, number]>> = {
      ArrowUp: [-1, 0],
      ArrowDown: [1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
    };
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
