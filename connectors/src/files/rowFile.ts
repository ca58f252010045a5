import { createHash } from 'node:crypto';
import { copyFile, open, rename, stat } from 'node:fs/promises';
import type { FileObject } from '@anchor-knot/contracts';
import type { Raw } from '@anchor-knot/core';
import { SystemTrouble } from '../connector.js';
import { stringifyExactJson } from '../json/exactJson.js';
import { readCsv, renderCsv } from './csv.js';
import { readJsonLines, renderJsonLines } from './jsonLines.js';
import { readWorkbook, renderWorkbook } from './workbook.js';

export interface FileRow {
  readonly fields: Readonly<Record<string, Raw>>;
  /** Line in the file, or row of the sheet, from 1; new rows have none. */
  readonly line?: number | undefined;
  /** The row as it stands in the file, so that what is not changed stays as it was to the letter. New and changed rows have none. */
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

/** @throws {SystemTrouble} with file, line and reason when the file is not what it should be */
export async function parseFile(path: string, bytes: Buffer, object: FileObject): Promise<RowFile> {
  switch (object.format) {
    case 'csv':
      return readCsv(path, bytes, object);
    case 'jsonl':
      return readJsonLines(path, bytes, object);
    case 'xlsx':
      return readWorkbook(path, bytes, object);
    default:
      throw new Error(`unknown format ${JSON.stringify(object.format satisfies never)}`);
  }
}

/** Replaces the file in one step: a reader sees the old file or the new one, and after a crash one of them is whole. */
export async function writeFile(path: string, object: FileObject, file: RowFile, before: Buffer): Promise<void> {
  const bytes = object.format === 'csv' ? renderCsv(file, object) : object.format === 'jsonl' ? renderJsonLines(file, object) : await renderWorkbook(file, object, before);
  const temporary = `${path}.writing`;
  const { mode } = await stat(path);
  const handle = await open(temporary, 'w', mode);
  try {
    await handle.writeFile(bytes);
    await handle.sync();
  } finally {
    await handle.close();
  }
  await rename(temporary, path);
}

export async function backUp(path: string): Promise<void> {
  await copyFile(path, `${path}.bak`);
}

/** A version of a row for writing only over what was read. */
export function rowVersion(fields: Readonly<Record<string, Raw>>): string {
  return createHash('sha256').update(stringifyExactJson(fields)).digest('base64url').slice(0, 22);
}

/** @throws {SystemTrouble} when two columns have one name */
export function checkColumns(path: string, columns: readonly string[]): void {
  const repeated = columns.find((name, index) => columns.indexOf(name) !== index);
  if (repeated !== undefined) throw fileProblem(path, `two columns are called “${repeated}”`, 'Give each column a name of its own.');
}
