import { createHash } from 'node:crypto';
import { copyFile, open, readFile, rename, stat } from 'node:fs/promises';
import { parse } from 'csv-parse/sync';
import { stringify } from 'csv-stringify/sync';
import type { FileObject } from '@anchor-knot/contracts';
import type { Raw } from '@anchor-knot/core';
import { SystemTrouble } from '../connector.js';
import { parseExactJson, stringifyExactJson } from '../json/exactJson.js';

export interface FileRow {
  readonly fields: Readonly<Record<string, Raw>>;
  /** Line in the file, from 1; new rows have none. */
  readonly line?: number | undefined;
  /** The row as it stands in the file, so that what is not changed stays as it was to the letter. */
  readonly source?: string | undefined;
}

/** The content of a CSV (RFC 4180) or JSON Lines file, with what is needed to write it back in the same form. */
export interface RowFile {
  readonly rows: readonly FileRow[];
  /** Column names in order; undefined for JSON Lines. */
  readonly columns: readonly string[] | undefined;
  readonly headerSource?: string | undefined;
  readonly newline: '\n' | '\r\n';
  readonly byteOrderMark: boolean;
}

function problem(path: string, says: string, advice: string, cause?: unknown): SystemTrouble {
  return new SystemTrouble('file problem', `${path}: ${says}`, advice, cause === undefined ? undefined : { cause });
}

/** @throws {SystemTrouble} with file, line and reason when the file is not there or not what it should be */
export async function readRows(path: string, object: FileObject): Promise<RowFile> {
  let bytes: Buffer;
  try {
    bytes = await readFile(path);
  } catch (cause) {
    const missing = (cause as NodeJS.ErrnoException).code === 'ENOENT';
    throw problem(
      path,
      missing ? 'there is no such file' : `it cannot be read: ${(cause as Error).message}`,
      missing ? 'Put the file there, or correct its path in the knot file.' : 'Check the rights on the file.',
      cause,
    );
  }
  let text: string;
  try {
    text = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(bytes);
  } catch (cause) {
    throw problem(path, 'it is not UTF-8', 'Save it as UTF-8.', cause);
  }
  const byteOrderMark = text.startsWith('\uFEFF');
  const content = byteOrderMark ? text.slice(1) : text;
  const newline = content.includes('\r\n') ? '\r\n' : '\n';
  const rows = object.format === 'csv' ? csvRows(path, content, object) : jsonRows(path, content);
  return { ...rows, newline, byteOrderMark };
}

function csvRows(path: string, text: string, { delimiter }: FileObject): Pick<RowFile, 'rows' | 'columns' | 'headerSource'> {
  let lines: { record: string[]; raw: string; info: { lines: number } }[];
  try {
    lines = parse(text, { delimiter, info: true, raw: true, relax_column_count: true, relax_quotes: true, skip_empty_lines: true }) as unknown as typeof lines;
  } catch (cause) {
    throw problem(path, `it is not a CSV file: ${(cause as Error).message}`, 'Look at the quotes around that line; a quote inside a quoted value is written twice.', cause);
  }
  const header = lines.shift();
  const columns = header?.record;
  if (!columns) throw problem(path, 'it is empty', 'The first line must hold the column names.');
  const repeated = columns.find((name, index) => columns.indexOf(name) !== index);
  if (repeated !== undefined) throw problem(path, `two columns are called “${repeated}”`, 'Give each column a name of its own.');
  let line = 1;
  const rows = lines.map(({ record, raw, info }): FileRow => {
    const start = line + 1;
    line = info.lines;
    if (record.length !== columns.length) throw problem(path, `line ${start} has ${record.length} values, the header has ${columns.length}`, 'Correct that line.');
    return { fields: Object.fromEntries(columns.map((name, index) => [name, record[index] as string])), line: start, source: bare(raw) };
  });
  return { rows, columns, headerSource: bare(header?.raw ?? '') };
}

function jsonRows(path: string, text: string): Pick<RowFile, 'rows' | 'columns'> {
  const rows = text.split(/\r?\n/).flatMap((source, index): FileRow[] => {
    if (source.trim() === '') return [];
    let value: Raw;
    try {
      value = parseExactJson(source);
    } catch (cause) {
      throw problem(path, `line ${index + 1} is not JSON: ${(cause as Error).message}`, 'Each line must hold one JSON object.', cause);
    }
    if (typeof value !== 'object' || value === null || Array.isArray(value)) throw problem(path, `line ${index + 1} is not a JSON object`, 'Each line must hold one JSON object.');
    return [{ fields: value as Record<string, Raw>, line: index + 1, source }];
  });
  return { rows, columns: undefined };
}

/** Replaces the file in one step: a reader sees the old file or the new one, and after a crash one of them is whole. */
export async function writeRows(path: string, object: FileObject, file: RowFile): Promise<void> {
  const text = file.columns ? csvText(file, object) : file.rows.map(({ fields, source }) => (source ?? stringifyExactJson(fields)) + file.newline).join('');
  const temporary = `${path}.writing`;
  const { mode } = await stat(path);
  const handle = await open(temporary, 'w', mode);
  try {
    await handle.writeFile((file.byteOrderMark ? '\uFEFF' : '') + text);
    await handle.sync();
  } finally {
    await handle.close();
  }
  await rename(temporary, path);
}

function csvText({ rows, columns = [], headerSource, newline }: RowFile, { delimiter }: FileObject): string {
  const line = (values: readonly string[]): string => bare(stringify([values as string[]], { delimiter, record_delimiter: newline }));
  return [headerSource ?? line(columns), ...rows.map(({ fields, source }) => source ?? line(columns.map((name) => cell(fields[name]))))].map((text) => text + newline).join('');
}

/** A row without the end of its line. */
function bare(text: string): string {
  return text.replace(/\r?\n?$/, '');
}

export async function backUp(path: string): Promise<void> {
  await copyFile(path, `${path}.bak`);
}

function cell(value: Raw | undefined): string {
  if (value === null || value === undefined) return '';
  return typeof value === 'string' ? value : stringifyExactJson(value);
}

/** A version of a row for writing only over what was read. */
export function rowVersion(fields: Readonly<Record<string, Raw>>): string {
  return createHash('sha256').update(stringifyExactJson(fields)).digest('base64url').slice(0, 22);
}
