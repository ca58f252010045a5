import type { Rows } from '@anchor-knot/contracts';
import { type FieldPath, type Raw, rawEqual, readPath, type RecordKey, scalarText, writePath } from '@anchor-knot/core';
import type { WriteOutcome, WriteRequest } from '../connector.js';
import { digest, isRow, type Row, RowKeys } from './row.js';

/** What stands in a list: a row, or what is none and has no key. */
interface Box {
  row: Raw;
  readonly key: RecordKey | undefined;
}

/** A row that a request changes, by the key that it has afterwards; one that was taken out by the one that it had. */
export interface RowMeant {
  readonly key: RecordKey;
  readonly kind: 'create' | 'update' | 'delete';
}

/** What becomes of the list of one record by the requests for its rows. */
export class ListEditing {
  readonly #rows: Rows;
  readonly #parent: RecordKey;
  readonly #boxes: Box[];
  readonly #byKey: ReadonlyMap<RecordKey, Box & { readonly before: Row }>;
  readonly #removed = new Set<Box>();
  /** Rows that a request puts in a place. */
  readonly #placed = new Map<Box, number>();
  readonly #changed: { readonly box: Box; readonly kind: RowMeant['kind'] }[] = [];

  constructor(rows: Rows, parent: RecordKey, list: readonly Raw[]) {
    this.#rows = rows;
    this.#parent = parent;
    const keys = new RowKeys(rows, parent);
    const byKey = new Map<RecordKey, Box & { readonly before: Row }>();
    this.#boxes = list.map((row) => {
      if (!isRow(row)) return { row, key: undefined };
      const box = { row, key: keys.next(row), before: row };
      byKey.set(box.key, box);
      return box;
    });
    this.#byKey = byKey;
  }

  /** @returns its number among those that change the list, or what becomes of it at once */
  apply(request: WriteRequest): number | WriteOutcome {
    if (request.kind === 'archive') return { kind: 'refused', words: 'a row cannot be archived' };
    if (request.kind === 'create') return this.#add(request.fields);
    const box = this.#byKey.get(request.key);
    if (!box || this.#removed.has(box)) return { kind: 'gone' };
    if (request.version !== undefined && request.version !== digest(box.before)) return { kind: 'raced' };
    if (request.kind === 'delete') {
      this.#removed.add(box);
      return this.#note(box, 'delete');
    }
    const problem = this.#problemOf(box.before, request.fields);
    if (problem !== undefined) return { kind: 'refused', words: problem };
    this.#fill(box, request.fields);
    return this.#note(box, 'update');
  }

  /** @returns the list as it is to be written; and for each request that changes it the row that is meant */
  finish(): { readonly rows: readonly Raw[]; readonly keys: readonly RowMeant[] } {
    const list = this.#boxes.filter((box) => !this.#removed.has(box) && !this.#placed.has(box));
    const placed = [...this.#placed].filter(([box]) => !this.#removed.has(box));
    for (const [box, position] of placed.sort(([, one], [, other]) => one - other))
      list.splice(Math.max(0, position - 1), 0, box);
    const keys = new RowKeys(this.#rows, this.#parent);
    const keyOf = new Map(list.map((box) => [box, isRow(box.row) ? keys.next(box.row) : undefined]));
    return {
      rows: list.map(({ row }) => row),
      keys: this.#changed.map(({ box, kind }) => ({ kind, key: (keyOf.get(box) ?? box.key) as RecordKey })),
    };
  }

  #add(fields: ReadonlyMap<FieldPath, Raw>): number {
    const box: Box = { row: {}, key: undefined };
    this.#boxes.push(box);
    this.#fill(box, fields);
    return this.#note(box, 'create');
  }

  #problemOf(before: Row, fields: ReadonlyMap<FieldPath, Raw>): string | undefined {
    const whose = fields.get(this.#rows.parentField);
    if (whose !== undefined && scalarText(whose) !== this.#parent)
      return 'a row stays with its record: make it there, and take it out here';
    const renamed = this.#rows.key.find(
      (path) => fields.has(path) && !rawEqual(fields.get(path), readPath(before, path)),
    );
    return renamed === undefined ? undefined : `${renamed} tells the row apart: take it out, and add another one`;
  }

  #fill(box: Box, fields: ReadonlyMap<FieldPath, Raw>): void {
    const { parentField, positionField } = this.#rows;
    for (const [path, value] of fields)
      if (path !== parentField && path !== positionField) box.row = writePath(box.row as Row, path, value);
    const position = Number(scalarText(fields.get(positionField) ?? null) ?? Number.NaN);
    if (Number.isInteger(position)) this.#placed.set(box, position);
  }

  #note(box: Box, kind: RowMeant['kind']): number {
    return this.#changed.push({ box, kind }) - 1;
  }
}
