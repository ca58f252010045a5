import { stringify } from 'csv-stringify/sync';

/**
 * CSV (RFC 4180) that a spreadsheet may open: texts that it would take for formulas are quoted; negative numbers stay
 * numbers.
 */
export function spreadsheetCsv(rows: readonly (readonly unknown[])[]): string {
  return stringify(
    rows.map((row) =>
      row.map((cell) => (typeof cell === 'string' && /^[=+@\t\r]|^-(?![\d.]+$)/.test(cell) ? `'${cell}` : cell)),
    ),
  );
}
