import { parse } from 'csv-parse/sync';
import pLimit from 'p-limit';
import { rawFromText, repairColumns, type RecordToCorrect, type TakenIn } from '@anchor-knot/contracts';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import { type Raw, type RecordName, showRaw } from '@anchor-knot/core';
import { spreadsheetCsv } from '../api/spreadsheetCsv.js';
import type { LoadedKnot } from '../knots/knots.js';
import type { SqlDatabase } from '../persistence/sql.js';
import { type DecisionRow, findDecision } from '../persistence/tables/decisions.js';
import { correct, type Corrected, recordOfDecision, recordToCorrect } from './correct.js';

/** Calls to the system that are under way at once. */
const callsAtOnce = 4;
/** A text that is longer is no value of a field, and a file that has it was not made here. */
const longestValue = 100_000;
const longestRecord = 8 * longestValue;

type Cell = string | number | boolean;

/** A file that is not as it was given out, in words. */
export class NoRepairFile extends Error {}

/**
 * The records of some decisions as a CSV (RFC 4180) in which a person writes what is to stand there: one row for each
 * field that can be changed, or for the one field that is wrong.
 * @throws {SystemTrouble}
 */
export async function repairFile(
  data: SqlDatabase,
  knot: LoadedKnot,
  connector: Connector,
  decisions: readonly { readonly id: string; readonly title: string | null }[],
  field: string | null,
): Promise<string> {
  const limit = pLimit(callsAtOnce);
  const rows = await Promise.all(
    decisions.map((decision) =>
      limit(async (): Promise<Cell[][]> => {
        const row = await findDecision(data, knot.id, Number(decision.id));
        const name = row && (await recordOfDecision(data, knot, row));
        const record = name && (await recordToCorrect(knot, connector, name));
        if (!record || !row) return [];
        return fieldsToCorrect(record, field).map((one): Cell[] => [
          decision.id,
          record.key,
          decision.title ?? '',
          one.path,
          textOf(one.raw),
          one.reason ?? record.fails.join('; '),
          '',
        ]);
      }),
    ),
  );
  return spreadsheetCsv([repairColumns, ...rows.flat()]);
}

function fieldsToCorrect({ fields }: RecordToCorrect, field: string | null): RecordToCorrect['fields'] {
  return fields.filter(({ id, mayWrite }) => mayWrite && (field === null || id === field));
}

/** A value as it is typed: yes and no for what is one of the two. */
function textOf(raw: Raw | null): string {
  if (raw === null) return '';
  if (typeof raw === 'boolean') return raw ? 'yes' : 'no';
  return showRaw(raw, longestValue);
}

interface RepairRow {
  readonly place: number;
  readonly decision: string;
  readonly record: string;
  readonly path: string;
  readonly before: string;
  readonly after: string;
}

/** @throws {NoRepairFile} naming what is wrong */
export function readRepairFile(text: string): readonly RepairRow[] {
  const rows = parseRows(text);
  const [header = [], ...lines] = rows;
  const missing = repairColumns.filter((column) => !header.includes(column));
  if (missing.length > 0) throw new NoRepairFile(`The file has no column “${missing.join('”, “')}”.`);
  return lines.map((cells, place) => {
    const cell = (column: (typeof repairColumns)[number]): string => cells[header.indexOf(column)] ?? '';
    return {
      // Lines as a spreadsheet counts them, the first one being the header.
      place: place + 2,
      decision: cell('decision').trim(),
      record: plain(cell('record')),
      path: plain(cell('field')),
      before: plain(cell('value there')),
      after: plain(cell('corrected value')),
    };
  });
}

function parseRows(text: string): string[][] {
  const [header = ''] = text.split('\n', 1);
  // Spreadsheets of some countries write semicolons; no column here is called with one.
  const delimiter = header.includes(';') ? ';' : ',';
  try {
    return parse(text, {
      bom: true,
      delimiter,
      relax_column_count: true,
      skip_empty_lines: true,
      max_record_size: longestRecord,
    }) as string[][];
  } catch (error) {
    throw new NoRepairFile(`This is no CSV: ${(error as Error).message}.`);
  }
}

/** What was quoted so that no spreadsheet takes it for a formula is the text behind the quote. */
function plain(text: string): string {
  return /^'[=+@\t\r-]/.test(text) ? text.slice(1) : text;
}

/**
 * Writes what was corrected in a file into the records' own system, each record by itself. A row whose value there is
 * not what the file says was changed meanwhile, and is left alone.
 * @throws {SystemTrouble} when the system cannot be worked with at all
 */
export async function takeIn(
  data: SqlDatabase,
  knot: LoadedKnot,
  connector: Connector,
  rows: readonly RepairRow[],
  isOfGroup: (decision: DecisionRow) => boolean,
  person: string,
): Promise<TakenIn> {
  const byDecision = new Map<string, RepairRow[]>();
  const touched = rows.filter(({ after }) => after !== '');
  for (const row of touched) byDecision.set(row.decision, [...(byDecision.get(row.decision) ?? []), row]);
  const limit = pLimit(callsAtOnce);
  const outcomes = await Promise.all(
    [...byDecision].map(([decision, own]) =>
      limit(async () => {
        const says = await correctRows(data, knot, connector, decision, own, isOfGroup, person);
        return { says, row: own[0]?.place ?? 0, record: own[0]?.record ?? '' };
      }),
    ),
  );
  const refused = outcomes.flatMap(({ says, row, record }) => (says === undefined ? [] : [{ row, record, says }]));
  return { corrected: outcomes.length - refused.length, untouched: rows.length - touched.length, refused };
}

/** @returns why it was not done; `undefined` where it was */
async function correctRows(
  data: SqlDatabase,
  knot: LoadedKnot,
  connector: Connector,
  decision: string,
  rows: readonly RepairRow[],
  isOfGroup: (decision: DecisionRow) => boolean,
  person: string,
): Promise<string | undefined> {
  if (!/^\d{1,15}$/.test(decision)) return `“${decision.slice(0, 40)}” is no number of a decision.`;
  const row = await findDecision(data, knot.id, Number(decision));
  if (!row || row.closed_at !== null) return 'It does not wait any more.';
  if (!isOfGroup(row)) return 'It is of another group: take the file in where it came from.';
  const name = await recordOfDecision(data, knot, row);
  const record = name && (await recordToCorrect(knot, connector, name));
  if (!name || !record) return 'The record is not there any more.';
  const values: Record<string, ReturnType<typeof rawFromText>> = {};
  for (const { path, before, after } of rows) {
    const field = record.fields.find((one) => one.path === path);
    if (!field?.mayWrite) return `The field “${path.slice(0, 100)}” cannot be changed there from here.`;
    if (textOf(field.raw as Raw) !== before)
      return `The field “${path}” has been changed there since the file was made; nothing was written.`;
    values[field.id] = rawFromText(after, field.raw);
  }
  return wordsOf(
    await tryToCorrect(data, knot, connector, decision, name, { version: record.version, values }, person),
  );
}

async function tryToCorrect(
  data: SqlDatabase,
  knot: LoadedKnot,
  connector: Connector,
  decision: string,
  name: RecordName,
  correction: Parameters<typeof correct>[5],
  person: string,
): Promise<Corrected> {
  try {
    return await correct(data, knot, connector, decision, name, correction, person, new Date());
  } catch (error) {
    if (!(error instanceof SystemTrouble)) throw error;
    return { kind: 'not possible', says: error.message };
  }
}

function wordsOf(outcome: Corrected): string | undefined {
  if (outcome.kind === 'corrected') return undefined;
  return outcome.kind === 'not found' ? 'It does not wait any more.' : outcome.says;
}
