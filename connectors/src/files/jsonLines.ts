import type { FileObject } from '@anchor-knot/contracts';
import type { Raw } from '@anchor-knot/core';
import { parseExactJson, stringifyExactJson } from '../json/exactJson.js';
import { decode, encode } from './encoding.js';
import type { FileRow, RowFile } from './rowFile.js';

/** One JSON object (RFC 8259) a line. A line that is none is a problem of that line. */
export function readJsonLines(path: string, bytes: Buffer, { encoding }: Pick<FileObject, 'encoding'>): RowFile {
  const { text, byteOrderMark } = decode(path, bytes, encoding);
  const rows = text.split(/\r?\n/).flatMap((source, index): FileRow[] => {
    if (source.trim() === '') return [];
    const at = { line: index + 1, source };
    try {
      const value = parseExactJson(source);
      if (typeof value !== 'object' || value === null || Array.isArray(value))
        return [{ fields: {}, ...at, problem: 'it is not a JSON object' }];
      return [{ fields: value as Record<string, Raw>, ...at }];
    } catch (cause) {
      return [{ fields: {}, ...at, problem: `it is not JSON: ${(cause as Error).message}` }];
    }
  });
  return { rows, columns: undefined, newline: text.includes('\r\n') ? '\r\n' : '\n', byteOrderMark };
}

export function renderJsonLines(
  { rows, newline, byteOrderMark }: RowFile,
  { encoding }: Pick<FileObject, 'encoding'>,
): Buffer {
  return encode(
    rows.map(({ fields, source }) => (source ?? stringifyExactJson(fields)) + newline).join(''),
    encoding,
    byteOrderMark,
  );
}
