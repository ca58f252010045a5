import { readFile, stat } from 'node:fs/promises';
import { basename, extname, join } from 'node:path';
import type { FileObject, FilesSystem } from '@anchor-knot/contracts';
import type { Raw } from '@anchor-knot/core';
import { SystemTrouble } from '../connector.js';
import { recogniseCsv } from './csv.js';
import { decode, recogniseEncoding } from './encoding.js';
import type { FilesDependencies } from './filesConnector.js';
import { listFiles, openFolder, pathIn } from './folder.js';
import { parseFile } from './formats.js';
import { fileProblem, type RowFile } from './rowFile.js';
import { readSettled } from './settledFile.js';

const mostListed = 200;
const recognisedBytes = 256 * 1024;
const rowsShown = 20;

/** A file of a folder, with how it seems to be written. */
export interface FileFound {
  readonly path: string;
  readonly bytes: number;
  readonly changedAt: string;
  readonly object: FileObject;
  readonly sheets: readonly string[];
  /** Why it cannot be read as it is. */
  readonly problem?: string;
}

/**
 * The files of a folder that can be objects, with encoding, delimiter, quote and key as they were recognised. @throws
 * {SystemTrouble}
 */
export async function exploreFolder(
  system: Pick<FilesSystem, 'name' | 'folder'>,
  dependencies: FilesDependencies,
): Promise<FileFound[]> {
  const folder = await openFolder(system, dependencies);
  const names = (await listFiles(folder)).filter((name) => formatOf(name) !== undefined).slice(0, mostListed);
  const found: FileFound[] = [];
  for (const name of names) {
    const path = join(folder, name);
    const { size, mtime } = await stat(path);
    found.push({ path: name, bytes: size, changedAt: mtime.toISOString(), ...(await recognise(path, name)) });
  }
  return found;
}

/** The first rows of a file as a description reads it, and the lines that it would reject. @throws {SystemTrouble} */
export async function previewFile(
  system: Pick<FilesSystem, 'name' | 'folder'>,
  path: string,
  object: FileObject,
  dependencies: FilesDependencies,
): Promise<{
  columns: string[];
  rows: Record<string, Raw>[];
  count: number;
  rejected: { line: number; reason: string }[];
}> {
  const whole = await pathIn(await openFolder(system, dependencies), path);
  const { bytes } = await readSettled(whole, dependencies.clock);
  const file = await parseFile(path, bytes, object);
  const good = file.rows.filter(({ problem }) => problem === undefined);
  return {
    columns: columnsOf(file),
    rows: good.slice(0, rowsShown).map(({ fields }) => ({ ...fields })),
    count: good.length,
    rejected: file.rows
      .flatMap(({ line, problem }) => (problem === undefined ? [] : [{ line: line ?? 0, reason: problem }]))
      .slice(0, 100),
  };
}

/** A list as it was read: its columns, the one that is likely its key, its rows, and the lines that cannot be read. */
export interface List {
  readonly columns: readonly string[];
  readonly key: string;
  readonly rows: readonly Readonly<Record<string, Raw>>[];
  readonly rejected: readonly { readonly line: number; readonly reason: string }[];
}

/** Reads a file alone as it seems to be written: CSV, JSON Lines or a workbook. @throws {SystemTrouble} */
export async function readList(path: string): Promise<List> {
  const name = basename(path);
  if (formatOf(name) === undefined)
    throw fileProblem(name, 'it is no list that can be read', 'Give a .csv, .tsv, .txt, .jsonl or .xlsx file.');
  const { object, problem } = await recognise(path, name);
  if (problem !== undefined) throw fileProblem(name, problem.replace(`${name}: `, ''), 'Correct the file.');
  const file = await parseFile(name, await readFile(path), object);
  const good = file.rows.filter((row) => row.problem === undefined);
  return {
    columns: columnsOf(file),
    key: object.key,
    rows: good.map(({ fields }) => fields),
    rejected: file.rows.flatMap((row) =>
      row.problem === undefined ? [] : [{ line: row.line ?? 0, reason: row.problem }],
    ),
  };
}

async function recognise(path: string, name: string): Promise<Pick<FileFound, 'object' | 'sheets' | 'problem'>> {
  const format = formatOf(name) as FileObject['format'];
  const plain: FileObject = {
    path: name,
    format,
    key: '',
    delimiter: ',',
    quote: '"',
    encoding: 'utf-8',
    holds: 'record set',
  };
  try {
    const bytes = await readFile(path);
    let object = plain;
    let sheets: string[] = [];
    if (format === 'xlsx') {
      const { sheetsOf } = await import('./workbook.js');
      const found = await sheetsOf(bytes);
      sheets = found.map((sheet) => sheet.name);
      // Explanations are on small sheets, records on large ones.
      const largest = found.reduce<(typeof found)[number] | undefined>(
        (one, other) => (one && one.rows >= other.rows ? one : other),
        undefined,
      );
      object = { ...plain, ...(largest ? { sheet: largest.name } : {}) };
    } else {
      const encoding = recogniseEncoding(bytes);
      object = { ...plain, encoding };
      if (format === 'csv')
        object = {
          ...object,
          ...recogniseCsv(
            decode(
              name,
              bytes.subarray(0, recognisedBytes - (recognisedBytes % 2)),
              encoding === 'utf-8' ? 'latin1' : encoding,
            ).text,
          ),
        };
    }
    return { object: { ...object, key: likelyKey(await parseFile(name, bytes, object)) }, sheets };
  } catch (error) {
    if (!(error instanceof SystemTrouble)) throw error;
    return { object: { ...plain, key: 'id' }, sheets: [], problem: error.message };
  }
}

/** The column whose values are never blank and never repeated; one that is called like a key before others. */
function likelyKey(file: RowFile): string {
  const rows = file.rows.filter(({ problem }) => problem === undefined).slice(0, 5000);
  const unique = columnsOf(file).filter((column) => {
    const values = rows
      .map(({ fields }) => fields[column])
      .filter((value) => value !== null && value !== undefined && value !== '' && typeof value !== 'object');
    return values.length === rows.length && new Set(values.map(String)).size === values.length;
  });
  return (
    unique.find((name) => /(^|[^a-z])(id|key|no|nr|number|code|ref)([^a-z]|$)|id$|no$|number$/i.test(name)) ??
    unique[0] ??
    columnsOf(file)[0] ??
    'id'
  );
}

function columnsOf({ columns, rows }: RowFile): string[] {
  return columns ? [...columns] : [...new Set(rows.slice(0, 200).flatMap(({ fields }) => Object.keys(fields)))];
}

function formatOf(name: string): FileObject['format'] | undefined {
  const extension = extname(name).toLowerCase();
  if (['.csv', '.txt', '.tsv'].includes(extension)) return 'csv';
  if (['.jsonl', '.ndjson'].includes(extension)) return 'jsonl';
  return extension === '.xlsx' ? 'xlsx' : undefined;
}
