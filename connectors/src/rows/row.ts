import { createHash } from 'node:crypto';
import { rowKey, type Rows } from '@anchor-knot/contracts';
import {
  isExactNumber,
  type Raw,
  readPath,
  recordKey,
  type RecordKey,
  scalarText,
  type SourceRecord,
} from '@anchor-knot/core';
import { stringifyExactJson } from '../json/exactJson.js';

export type Row = Readonly<Record<string, Raw>>;

export function isRow(value: Raw): value is Row {
  return typeof value === 'object' && value !== null && !Array.isArray(value) && !isExactNumber(value);
}

/** Gives the rows of one record their keys, in the order in which they stand. */
export class RowKeys {
  readonly #seen = new Map<string, number>();

  constructor(
    readonly rows: Rows,
    readonly parent: RecordKey,
  ) {}

  next(row: Row): RecordKey {
    const values = this.rows.key.map((path) => scalarText(readPath(row, path) ?? null) ?? '');
    const name = JSON.stringify(values);
    const place = (this.#seen.get(name) ?? 0) + 1;
    this.#seen.set(name, place);
    return recordKey(rowKey(this.parent, values, place));
  }
}

export function rowRecord(rows: Rows, parent: SourceRecord, key: RecordKey, row: Row, position: number): SourceRecord {
  return {
    key,
    fields: { ...row, [rows.parentField]: parent.key, [rows.positionField]: position },
    version: digest(row),
    ...(parent.modifiedAt === undefined ? {} : { modifiedAt: parent.modifiedAt }),
  };
}

/** What a row is compared by: another one wherever anything in it is. */
export function digest(row: Row): string {
  return createHash('sha256').update(stringifyExactJson(row)).digest('base64url').slice(0, 22);
}
