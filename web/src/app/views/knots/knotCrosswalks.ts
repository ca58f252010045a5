import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { KnotDefinition } from '@anchor-knot/contracts';
import {
  type Crosswalk,
  type CrosswalkRow,
  fieldsThrough,
  freeId,
  kindOfValues,
  type Scalar,
  setCrosswalk,
  typedValue,
  usersOf,
} from '@anchor-knot/core';
import { FileButton } from '../../fields/fileButton';
import { TextField } from '../../fields/textField';
import { WithSide } from '../../layout/withSide';
import { Pennant } from '../../pennant/pennant';
import { plural } from '../../words/sentences';
import { crosswalkCsv, csvCrosswalk } from './editor/crosswalkCsv';
import { GoLive } from './editor/goLive';
import { KnotEditor } from './editor/knotEditor';
import { type MissingValue, missingValues } from './editor/missingValues';
import { Downloads } from '../../telling/downloads';
import { Surveys } from './editor/surveys';
import { tableParts } from '../../tables/rows';

/**
 * Tables that translate values between systems: the shared value, and what each member calls it; the first is what is
 * written.
 */
@Component({
  selector: 'ak-knot-crosswalks',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, WithSide, MatButtonModule, FileButton, TextField, Pennant, GoLive],
  templateUrl: './knotCrosswalks.html',
  styleUrl: './knotCrosswalks.scss',
})
export class KnotCrosswalks {
  protected readonly editor = inject(KnotEditor);
  readonly #surveys = inject(Surveys);
  readonly #downloads = inject(Downloads);
  protected readonly plural = plural;
  protected readonly setCrosswalk = setCrosswalk;
  protected readonly columns = computed(() => ['shared', ...this.editor.members().map(({ id }) => id), 'acts']);
  protected readonly problem = signal<{ table: string; says: string } | undefined>(undefined);
  protected readonly tables = computed(() => {
    const definition = this.editor.definition();
    if (!definition) return [];
    return Object.entries(definition.crosswalks).map(([id, table]) => ({
      id,
      ...table,
      missing: this.#missing(definition, id),
      usedBy: usersOf(definition, id).join(', ') || 'no field',
    }));
  });

  /** Values that no row has: of all records where they were tried, otherwise of those looked at. */
  #missing(definition: KnotDefinition, table: string): readonly MissingValue[] {
    const survey = this.#surveys.last();
    if (!survey) return missingValues(definition, table, this.editor.reading());
    const rows = definition.crosswalks[table]?.rows ?? [];
    return Object.entries(survey.members).flatMap(([member, { unknownValues }]) => {
      const known = new Set(rows.flatMap(({ values }) => (values[member] ?? []).map(String)));
      return unknownValues
        .filter((one) => one.table === table && !known.has(one.value))
        .map(({ value, count }) => ({ member, value, count }));
    });
  }

  /** Takes a text as the member's system has such values: by those that are in the table, else by its fields. */
  #typed(id: string, member: string): (text: string) => Scalar {
    const definition = this.editor.definition();
    if (!definition) return (text) => text;
    const known = (definition.crosswalks[id]?.rows ?? []).flatMap(({ values }) => values[member] ?? []);
    const paths = fieldsThrough(definition, id, member);
    const there = this.editor.reading()?.members.find((one) => one.id === member)?.fields ?? [];
    const types = new Set(there.filter(({ path }) => paths.includes(path)).map(({ type }) => type));
    const [only] = types.size === 1 ? types : [];
    const kind = kindOfValues(known) ?? (only === 'number' || only === 'yes/no' ? only : 'text');
    return (text) => typedValue(text, kind);
  }
  #typedRow(id: string, { shared, values }: CrosswalkRow): CrosswalkRow {
    const typed = Object.entries(values).flatMap(([member, texts]): [string, Scalar[]][] =>
      texts.length === 0 ? [] : [[member, texts.map(String).map(this.#typed(id, member))]],
    );
    return { shared, values: Object.fromEntries(typed) };
  }

  #change(id: string, change: (table: Crosswalk) => Crosswalk): void {
    const table = this.editor.definition()?.crosswalks[id];
    if (table) this.editor.edit(setCrosswalk(id, change(table)));
  }
  protected rename(id: string, name: string): void {
    if (name.trim() !== '') this.#change(id, (table) => ({ ...table, name: name.trim() }));
  }
  protected shared(id: string, index: number, shared: string): void {
    if (shared.trim() !== '')
      this.#change(id, (table) => ({
        ...table,
        rows: table.rows.map((row, at) => (at === index ? { ...row, shared: shared.trim() } : row)),
      }));
  }
  protected values(id: string, index: number, member: string, text: string): void {
    const values = text
      .split('|')
      .map((one) => one.trim())
      .filter((one) => one !== '')
      .map(this.#typed(id, member));
    this.#change(id, (table) => ({
      ...table,
      rows: table.rows.map((row, at) => (at === index ? { ...row, values: { ...row.values, [member]: values } } : row)),
    }));
  }
  protected addRow(id: string): void {
    this.#change(id, (table) => ({
      ...table,
      rows: [...table.rows, { shared: `value ${table.rows.length + 1}`, values: {} }],
    }));
  }
  protected dropRow(id: string, index: number): void {
    this.#change(id, (table) => ({ ...table, rows: table.rows.filter((_, at) => at !== index) }));
  }
  /** A value that was met and is in no row: into the row of that shared value, or into one of its own. */
  protected takeIn(id: string, { member, value }: { readonly member: string; readonly value: string }): void {
    const typed = this.#typed(id, member)(value);
    this.#change(id, (table) => {
      const at = table.rows.findIndex(({ shared }) => shared.toLowerCase() === value.toLowerCase());
      if (at < 0) return { ...table, rows: [...table.rows, { shared: value, values: { [member]: [typed] } }] };
      return {
        ...table,
        rows: table.rows.map((row, index) =>
          index === at ? { ...row, values: { ...row.values, [member]: [...(row.values[member] ?? []), typed] } } : row,
        ),
      };
    });
  }
  protected add(): void {
    const id = freeId('table', Object.keys(this.editor.definition()?.crosswalks ?? {}));
    this.editor.edit(setCrosswalk(id, { name: 'New crosswalk', rows: [] }));
  }
  protected download(id: string): void {
    const table = this.editor.definition()?.crosswalks[id];
    if (table)
      this.#downloads.save(
        `${id}.csv`,
        'text/csv',
        crosswalkCsv(table, this.editor.definition()?.members.map((member) => member.id) ?? []),
      );
  }
  /** Why a text cannot be the shared value of a row: two rows with the same would leave open which is meant. */
  protected isTaken(rows: Crosswalk['rows'], index: number): (text: string) => string | undefined {
    return (text) =>
      rows.some(({ shared }, place) => place !== index && shared === text.trim())
        ? 'Another row has this value.'
        : undefined;
  }
  protected upload(id: string, file: File): void {
    this.problem.set(undefined);
    void file.text().then((text) => {
      const read = csvCrosswalk(text, this.editor.definition()?.members.map((member) => member.id) ?? []);
      if (read.ok) this.#change(id, (table) => ({ ...table, rows: read.rows.map((row) => this.#typedRow(id, row)) }));
      else this.problem.set({ table: id, says: read.says });
    });
  }
}
