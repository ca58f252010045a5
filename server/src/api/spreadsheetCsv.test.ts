import fc from 'fast-check';
import { parse } from 'csv-parse/sync';
import { spreadsheetCsv } from './spreadsheetCsv.js';

test('whatever a text begins with, no cell begins as a formula does, and nothing but a quote is added', () => {
  fc.assert(
    fc.property(
      fc.array(
        fc.array(fc.oneof(fc.string(), fc.constantFrom('=1+1', '+x', '@sum', '-cmd', '-12.50', '\tx', 'a"b\n')), {
          minLength: 2,
          maxLength: 2,
        }),
        { minLength: 1 },
      ),
      (rows) => {
        const read = parse(spreadsheetCsv(rows), { relax_column_count: true, skip_empty_lines: false }) as string[][];
        expect(read.map((row) => row.map((cell) => cell.replace(/^'(?=[=+@\t\r-])/, '')))).toEqual(
          rows.map((row) => row.map((cell) => cell.replace(/^'(?=[=+@\t\r-])/, ''))),
        );
        for (const cell of read.flat()) expect(cell).not.toMatch(/^[=+@\t\r]|^-(?![\d.]+$)/);
      },
    ),
  );
  expect(spreadsheetCsv([['-2.50', -3, '-x']])).toBe("-2.50,-3,'-x\n");
});
