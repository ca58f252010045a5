import { createHash } from 'node:crypto';
import type { Raw } from '@anchor-knot/core';
import { SystemTrouble } from '../connector.js';
import { stringifyExactJson } from '../json/exactJson.js';

export interface FileRow {
  readonly fields: Readonly<Record<string, Raw>>;
  /** Line in the file, or row of the sheet, from 1; new rows have none. */
  readonly line?: number | undefined;
  /**
   * The row as it stands in the file, so that what is not changed stays as it was to the letter. New and changed rows
   * have none.
   */
  readonly source?: string | undefined;
  /** Why the row cannot be taken. It stays in the file as it is. */
  readonly problem?: string | undefined;
}

/** The content of a file, with what is needed to write it back in the same form. */
export interface RowFile {
  readonly rows: readonly FileRow[];
  /** Column names in order; undefined for JSON Lines. */
  readonly columns: readonly string[] | undefined;
  readonly headerSource?: string | undefined;
  readonly newline: '\n' | '\r\n';
  readonly byteOrderMark: boolean;
}

/** @param says what is wrong, after the file's name */
export function fileProblem(path: string, says: string, advice: string, cause?: unknown): SystemTrouble {
  return new SystemTrouble('file problem', `${path}: ${says}`, advice, cause === undefined ? undefined : { cause });
}

/** A version of a row for writing only over what was read. */
export function rowVersion(fields: Readonly<Record<string, Raw>>): string {
  return createHash('sha256').update(stringifyExactJson(fields)).digest('base64url').slice(0, 22);
}

/** @throws {SystemTrouble} when two columns have one name */
export function checkColumns(path: string, columns: readonly string[]): void {
  const repeated = columns.find((name, index) => columns.indexOf(name) !== index);
  if (repeated !== undefined)
    throw fileProblem(path, `two columns are called “${repeated}”`, 'Give each column a name of its own.');
}
