import { Readable } from 'node:stream';
import ExcelJS from 'exceljs';
import type { FileObject } from '@anchor-knot/contracts';
import { isExactNumber, type Raw } from '@anchor-knot/core';
import { stringifyExactJson } from '../json/exactJson.js';
import { checkColumns, fileProblem, type FileRow, type RowFile } from './rowFile.js';

/** Rows that did not change are left to the workbook; this stands for their text. */
const asItWas = '';

/**
 * A sheet of a workbook (Office Open XML, ISO/IEC 29500). The first row that holds anything has the names of the
 * columns.
 * Numbers are numbers; dates are ISO 8601 without a zone, since a workbook has none.
 */
export async function readWorkbook(
  path: string,
  bytes: Buffer,
  { sheet: wanted }: Pick<FileObject, 'sheet'>,
): Promise<RowFile> {
  let read: SheetRows;
  try {
    // On a busy machine the streaming reader may lose a part of the file: what it does not find is looked for in the
    // whole.
    const first = await readSheet(streamed(bytes), wanted).catch(() => undefined);
    read = first?.found === true ? first : await readSheet(loaded(bytes), wanted);
  } catch (cause) {
    throw fileProblem(
      path,
      `it is not a workbook that can be read: ${(cause as Error).message}`,
      'Save it as XLSX.',
      cause,
    );
  }
  const { rows, columns, found, names } = read;
  if (!found)
    throw fileProblem(
      path,
      wanted === undefined ? 'it has no sheet' : `it has no sheet “${wanted}”`,
      names.length > 0 ? `Its sheets are ${names.join(', ')}.` : 'Save it as XLSX.',
    );
  const named = (columns ?? []).filter((name) => name !== undefined);
  if (named.length === 0) throw fileProblem(path, 'it is empty', 'The first row must hold the column names.');
  checkColumns(path, named);
  return { rows, columns: named, newline: '\n', byteOrderMark: false };
}

interface SheetRows {
  readonly rows: FileRow[];
  readonly columns: (string | undefined)[] | undefined;
  readonly names: readonly string[];
  readonly found: boolean;
}

interface Sheet {
  readonly name: string;
  readonly rows: AsyncIterable<ExcelJS.Row> | Iterable<ExcelJS.Row>;
}

/** Sheet by sheet and row by row, in memory that does not grow with the file. */
async function* streamed(bytes: Buffer): AsyncGenerator<Sheet> {
  const reader = new ExcelJS.stream.xlsx.WorkbookReader(Readable.from([bytes]), {
    sharedStrings: 'cache',
    styles: 'cache',
    hyperlinks: 'ignore',
    worksheets: 'emit',
    entries: 'ignore',
  });
  for await (const sheet of reader) yield { name: (sheet as unknown as { name: string }).name, rows: sheet };
}

async function* loaded(bytes: Buffer): AsyncGenerator<Sheet> {
  const workbook = new ExcelJS.Workbook();
  await workbook.xlsx.load(bytes as unknown as ArrayBuffer);
  for (const sheet of workbook.worksheets) {
    const rows: ExcelJS.Row[] = [];
    sheet.eachRow((row) => rows.push(row));
    yield { name: sheet.name, rows };
  }
}

async function readSheet(sheets: AsyncIterable<Sheet>, wanted: string | undefined): Promise<SheetRows> {
  const rows: FileRow[] = [];
  let columns: (string | undefined)[] | undefined;
  const names: string[] = [];
  let found = false;
  for await (const sheet of sheets) {
    names.push(sheet.name);
    const isWanted: boolean = !found && (wanted === undefined || sheet.name === wanted);
    for await (const row of sheet.rows) {
      if (!isWanted) continue;
      const values = (row.values as ExcelJS.CellValue[]).slice(1).map(cellValue);
      if (values.every((value) => value === null || value === undefined || value === '')) continue;
      if (!columns) {
        columns = values.map((value) => (value === null || value === undefined ? undefined : String(value).trim()));
        continue;
      }
      const outside = values.findIndex(
        (value, index) => value !== null && value !== undefined && columns?.[index] === undefined,
      );
      const fields = Object.fromEntries(
        columns.flatMap((column, index) => (column === undefined ? [] : [[column, values[index] ?? null] as const])),
      );
      rows.push({
        fields,
        line: row.number,
        source: asItWas,
        ...(outside === -1 ? {} : { problem: `it has a value in column ${outside + 1}, which has no name` }),
      });
    }
    found ||= isWanted;
  }
  return { rows, columns, names, found };
}

/** Changes cells and adds rows; everything else of the workbook stays. */
export async function renderWorkbook(
  file: RowFile,
  { sheet: wanted }: Pick<FileObject, 'sheet'>,
  before: Buffer,
): Promise<Buffer> {
  const workbook = new ExcelJS.Workbook();
  await workbook.xlsx.load(before as unknown as ArrayBuffer);
  const sheet = wanted === undefined ? workbook.worksheets[0] : workbook.getWorksheet(wanted);
  if (!sheet) throw new Error('the sheet that was read is gone');
  const at = new Map<string, number>();
  sheet.eachRow((row) => {
    if (at.size === 0) row.eachCell((cell, column) => at.set(String(cellValue(cell.value)).trim(), column));
  });
  let last = sheet.rowCount;
  for (const { fields, line, source } of file.rows) {
    if (source !== undefined) continue;
    const row = sheet.getRow(line ?? (last += 1));
    for (const [name, value] of Object.entries(fields)) {
      const column = at.get(name);
      if (column === undefined) continue;
      const cell = row.getCell(column);
      // Only what differs: formulas and formats of other cells stay.
      if (stringifyExactJson(cellValue(cell.value) ?? null) !== stringifyExactJson(value)) cell.value = toCell(value);
    }
    row.commit();
  }
  return Buffer.from(await workbook.xlsx.writeBuffer());
}

/** The sheets with the number of rows in each, in their order. @throws when it is no workbook */
export async function sheetsOf(bytes: Buffer): Promise<{ name: string; rows: number }[]> {
  const first = await countRows(streamed(bytes)).catch(() => []);
  return first.length > 0 ? first : countRows(loaded(bytes));
}

async function countRows(sheets: AsyncIterable<Sheet>): Promise<{ name: string; rows: number }[]> {
  const counted: { name: string; rows: number }[] = [];
  for await (const sheet of sheets) {
    let rows = 0;
    for await (const row of sheet.rows) if (row.hasValues) rows += 1;
    counted.push({ name: sheet.name, rows });
  }
  return counted;
}

function cellValue(value: ExcelJS.CellValue): Raw | undefined {
  if (value === null || value === undefined) return undefined;
  if (value instanceof Date) {
    const iso = value.toISOString();
    return iso.endsWith('T00:00:00.000Z') ? iso.slice(0, 10) : iso.slice(0, 19);
  }
  if (typeof value !== 'object') return value;
  if ('richText' in value) return value.richText.map(({ text }) => text).join('');
  if ('hyperlink' in value)
    return typeof value.text === 'string' ? value.text : String(cellValue(value.text as ExcelJS.CellValue) ?? '');
  if ('error' in value) return value.error;
  if ('result' in value) return cellValue(value.result as ExcelJS.CellValue);
  return undefined;
}

/** Text that begins like a formula stays text: a workbook's cell of that kind is never evaluated. */
function toCell(value: Raw): ExcelJS.CellValue {
  if (isExactNumber(value))
    return Number.isSafeInteger(Number(value.$number)) || /\./.test(value.$number)
      ? Number(value.$number)
      : value.$number;
  if (value === null || typeof value === 'number' || typeof value === 'boolean' || typeof value === 'string')
    return value;
  return stringifyExactJson(value);
}
