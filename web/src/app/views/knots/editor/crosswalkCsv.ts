import type { Crosswalk } from '@anchor-knot/core';
import { parse } from 'csv-parse/browser/esm/sync';
import { stringify } from 'csv-stringify/browser/esm/sync';

const betweenValues = ' | ';

/**
 * A crosswalk as CSV (RFC 4180): a row for each shared value, a column for each member; several values are separated by
 * `|`.
 */
export function crosswalkCsv({ rows }: Crosswalk, members: readonly string[]): string {
  return stringify(
    rows.map(({ shared, values }) => [
      shared,
      ...members.map((member) => (values[member] ?? []).map(String).join(betweenValues)),
    ]),
    { header: true, columns: ['shared', ...members], record_delimiter: 'windows', escape_formulas: true },
  );
}

export type ReadCrosswalk =
  { readonly ok: true; readonly rows: Crosswalk['rows'] } | { readonly ok: false; readonly says: string };

/** Reads such a CSV. A shared value that comes twice, or a column of no member, is refused with its place. */
export function csvCrosswalk(text: string, members: readonly string[]): ReadCrosswalk {
  let lines: string[][];
  try {
    lines = parse(text, { bom: true, skip_empty_lines: true, relax_column_count: true });
  } catch (error) {
    return { ok: false, says: `This is no CSV: ${error instanceof Error ? error.message : String(error)}` };
  }
  const [header, ...body] = lines;
  if (!header || header[0]?.trim() !== 'shared')
    return { ok: false, says: 'The first column has to be called “shared”.' };
  const columns = header.slice(1).map((name) => name.trim());
  const unknown = columns.find((name) => !members.includes(name));
  if (unknown !== undefined)
    return { ok: false, says: `There is no member “${unknown}”; there are ${members.join(', ')}.` };
  const seen = new Map<string, number>();
  const rows: Crosswalk['rows'][number][] = [];
  for (const [index, line] of body.entries()) {
    const shared = bare(line[0] ?? '');
    if (shared === '') return { ok: false, says: `Row ${index + 2} has no shared value.` };
    const before = seen.get(shared);
    if (before !== undefined)
      return {
        ok: false,
        says: `“${shared}” stands in rows ${before} and ${index + 2}; put its values into one row, separated by |.`,
      };
    seen.set(shared, index + 2);
    const values = Object.fromEntries(
      columns.map((member, at) => [
        member,
        (line[at + 1] ?? '')
          .split('|')
          .map(bare)
          .filter((value) => value !== ''),
      ]),
    );
    rows.push({ shared, values });
  }
  return { ok: true, rows };
}

/** Without the quote that keeps a spreadsheet from taking a value for a formula. */
export function bare(text: string): string {
  const trimmed = text.trim();
  return /^'[=+\-@]/.test(trimmed) ? trimmed.slice(1) : trimmed;
}
