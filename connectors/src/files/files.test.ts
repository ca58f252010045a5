import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import fc from 'fast-check';
import { filesSystemSchema } from '@anchor-knot/contracts';
import { recordKey } from '@anchor-knot/core';
import { parseExactJson, stringifyExactJson } from '../json/exactJson.js';
import { FilesConnector } from './filesConnector.js';
import { readRows, writeRows } from './rowFile.js';

let folder: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'anchor-knot-files-'));
});
afterEach(() => rmSync(folder, { recursive: true, force: true }));

const csv = { path: 'f.csv', format: 'csv', key: 'id', delimiter: ',' } as const;
function connector(text: string, format: 'csv' | 'jsonl' = 'csv'): FilesConnector {
  writeFileSync(join(folder, `f.${format}`), text);
  return new FilesConnector(filesSystemSchema.parse({ kind: 'files', name: 'F', folder, objects: { f: { path: `f.${format}`, format, key: 'id' } } }), 'f', '/');
}
async function failure(text: string, format: 'csv' | 'jsonl' = 'csv'): Promise<string> {
  try {
    for await (const page of connector(text, format).read()) void page;
    return 'no failure';
  } catch (error) {
    return (error as Error).message;
  }
}

const suite = join(dirname(createRequire(import.meta.url).resolve('csv-spectrum')), 'csvs');
// What location_coordinates.json expects is not what its CSV file holds.
const spectrum = readdirSync(suite).filter((name) => name.endsWith('.csv') && name !== 'location_coordinates.csv');
test.each(spectrum)('reads %s of the public CSV suite as it is meant, and writes it back to the letter', async (name) => {
  const source = readFileSync(join(suite, name), 'utf8');
  const expected = JSON.parse(readFileSync(join(suite, '../json', name.replace('.csv', '.json')), 'utf8')) as Record<string, string>[];
  const path = join(folder, 'f.csv');
  writeFileSync(path, source);
  const file = await readRows(path, csv);
  expect(file.rows.map(({ fields }) => fields)).toEqual(expected);
  await writeRows(path, csv, file);
  expect(readFileSync(path, 'utf8').replace(/\r?\n$/, '')).toBe(source.replace(/\r?\n$/, ''));
});

test('only what is written changes: other rows keep their quotes, order and line ends, and a backup is kept', async () => {
  const text = '\uFEFFid,name,note\r\n1,"Ann, B",\'x\'\r\n2,"Bob",""\r\n';
  const files = connector(text);
  const [outcome] = await files.write([{ kind: 'update', key: recordKey('2'), version: undefined, fields: new Map([['name', 'B "o", b']]) }]);
  expect(outcome).toMatchObject({ kind: 'written' });
  expect(readFileSync(join(folder, 'f.csv'), 'utf8')).toBe('\uFEFFid,name,note\r\n1,"Ann, B",\'x\'\r\n2,"B ""o"", b",\r\n');
  expect(readFileSync(join(folder, 'f.csv.bak'), 'utf8')).toBe(text);
  expect(existsSync(join(folder, 'f.csv.writing'))).toBe(false);
});

test.each<[string, string, RegExp]>([
  ['a line with too many values', 'id,name\n1,a\n2,b,c\n', /line 3 has 3 values, the header has 2/],
  ['a quote that is not closed', 'id,name\n1,"a\n', /not a CSV file/],
  ['two lines with one key', 'id,name\n1,a\n1,b\n', /lines 2 and 3 have the same key “1”/],
  ['no column of the key', 'no,name\n1,a\n', /no column “id”/],
  ['two columns of one name', 'id,id\n1,2\n', /two columns are called “id”/],
  ['nothing at all', '', /empty/],
])('%s is refused with file and line, and the file is left alone', async (_, text, says) => {
  expect(await failure(text)).toMatch(says);
  expect(readFileSync(join(folder, 'f.csv'), 'utf8')).toBe(text);
});

test('a line that is not JSON is named', async () => {
  expect(await failure('{"id":1}\n{"id":', 'jsonl')).toMatch(/line 2 is not JSON/);
});

test('a row without a key is reported and the others are read', async () => {
  const pages = [];
  for await (const page of connector('id,name\n1,a\n,b\n3,c\n').read()) pages.push(page);
  expect(pages).toMatchObject([{ records: [{ key: '1' }, { key: '3' }], unusable: [{ reason: expect.stringContaining('line 3') as unknown as string }] }]);
});

test('numbers survive JSON to the last digit, and JSON means what JSON.parse says it means', () => {
  const text = '{"id":12345678901234567890,"price":1.10,"list":[1e3,-0,0.5],"text":"1.10"}';
  expect(stringifyExactJson(parseExactJson(text))).toBe(text);
  fc.assert(
    fc.property(fc.jsonValue({ noUnicodeString: false }), (value) => {
      const again = stringifyExactJson(parseExactJson(JSON.stringify(value)));
      expect(JSON.parse(again)).toEqual(JSON.parse(JSON.stringify(value)));
    }),
  );
});
