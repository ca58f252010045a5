import { parse } from 'csv-parse/sync';
import { stringify } from 'csv-stringify/sync';
import type { FileObject } from '@anchor-knot/contracts';
import type { Raw } from '@anchor-knot/core';
import { stringifyExactJson } from '../json/exactJson.js';
import { decode, encode } from './encoding.js';
import { checkColumns, fileProblem, type FileRow, type RowFile } from './rowFile.js';

type Form = Pick<FileObject, 'delimiter' | 'quote' | 'encoding'>;

/**
 * Comma-separated values (RFC 4180), with any delimiter, quote and encoding. A line with more or fewer values than
 * columns is a problem of that line.
 */
export function readCsv(path: string, bytes: Buffer, { delimiter, quote, encoding }: Form): RowFile {
  const { text, byteOrderMark } = decode(path, bytes, encoding);
  let header: { readonly columns: readonly string[]; readonly source: string } | undefined;
  const rows: FileRow[] = [];
  let line = 0;
  // Rows are made as the lines come, so that a large file is not held twice.
  const take = ({ record, raw }: ParsedLine): null => {
    const start = line + 1;
    line += countMatches(raw, newlines);
    if (record.length === 1 && record[0] === '' && bare(raw) === '') return null;
    if (header) rows.push(rowOf(header.columns, record, raw, start));
    else header = { columns: record, source: bare(raw) };
    return null;
  };
  try {
    parse(text, {
      delimiter,
      quote,
      escape: quote,
      raw: true,
      relax_column_count: true,
      relax_quotes: true,
      on_record: take as never,
    });
  } catch (cause) {
    throw fileProblem(
      path,
      `it is not a CSV file: ${(cause as Error).message}`,
      'Look at the quotes around that line; a quote inside a quoted value is written twice.',
      cause,
    );
  }
  if (!header) throw fileProblem(path, 'it is empty', 'The first line must hold the column names.');
  const { columns, source } = header as { readonly columns: string[]; readonly source: string };
  checkColumns(path, columns);
  return { rows, columns, headerSource: source, newline: text.includes('\r\n') ? '\r\n' : '\n', byteOrderMark };
}

interface ParsedLine {
  readonly record: string[];
  /** With the end of the line. */
  readonly raw: string;
}

const newlines = /\r\n|\r|\n/g;

function rowOf(columns: readonly string[], record: readonly string[], raw: string, line: number): FileRow {
  const fields: Record<string, Raw> = {};
  for (const [index, name] of columns.entries()) fields[name] = record[index] ?? '';
  const row = { fields, line, source: bare(raw) };
  if (record.length === columns.length) return row;
  return { ...row, problem: `it has ${record.length} values, the header has ${columns.length}` };
}

/** The columns of a CSV file, by its first line alone. */
export function csvColumns(path: string, bytes: Buffer, { delimiter, quote, encoding }: Form): readonly string[] {
  const { text } = decode(path, bytes.subarray(0, longestHeader), encoding);
  const options = { delimiter, quote, escape: quote, relax_column_count: true, relax_quotes: true };
  const [columns] = parse(text, { ...options, skip_empty_lines: true, to: 1 }) as string[][];
  return columns ?? [];
}

/** No header is longer, in bytes. */
const longestHeader = 1 << 20;

export function renderCsv(
  { rows, columns = [], headerSource, newline, byteOrderMark }: RowFile,
  { delimiter, quote, encoding }: Form,
): Buffer {
  const line = (values: readonly string[]): string =>
    bare(stringify([values as string[]], { delimiter, quote, escape: quote, record_delimiter: newline }));
  const lines = [
    headerSource ?? line(columns),
    ...rows.map(({ fields, source }) => source ?? line(columns.map((name) => cell(fields[name])))),
  ];
  return encode(lines.map((text) => text + newline).join(''), encoding, byteOrderMark);
}

const delimiters = [',', ';', '\t', '|'];

/**
 * How a text is written as CSV: the delimiter that gives most columns, the same number in each of the first lines; and
 * the quote beside it.
 */
export function recogniseCsv(text: string): Pick<Form, 'delimiter' | 'quote'> {
  const start = text.slice(0, 20_000);
  const quote = countMatches(start, /(^|[,;\t|\n])'/g) > countMatches(start, /(^|[,;\t|\n])"/g) ? "'" : '"';
  const scored = delimiters.map((delimiter) => {
    try {
      const lines = parse(start, {
        delimiter,
        quote,
        escape: quote,
        relax_column_count: true,
        relax_quotes: true,
        skip_empty_lines: true,
        to: 20,
      }) as string[][];
      const columns = lines[0]?.length ?? 0;
      const alike = lines.filter((values) => values.length === columns).length / Math.max(1, lines.length);
      return { delimiter, score: columns > 1 ? columns * alike ** 3 : 0 };
    } catch {
      return { delimiter, score: 0 };
    }
  });
  const best = scored.reduce((one, other) => (other.score > one.score ? other : one));
  return { delimiter: best.score > 0 ? best.delimiter : ',', quote };
}

function countMatches(text: string, pattern: RegExp): number {
  return [...text.matchAll(pattern)].length;
}

/** A row without the end of its line. */
function bare(text: string): string {
  return text.replace(/\r?\n?$/, '');
}

function cell(value: Raw | undefined): string {
  if (value === null || value === undefined) return '';
  return typeof value === 'string' ? value : stringifyExactJson(value);
}
