import {
  appendFileSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { setTimeout as wait } from 'node:timers/promises';
import ExcelJS from 'exceljs';
import iconv from 'iconv-lite';
import fc from 'fast-check';
import { filesSystemSchema } from '@anchor-knot/contracts';
import { recordKey } from '@anchor-knot/core';
import { parseExactJson, stringifyExactJson } from '../json/exactJson.js';
import { type Clock, SystemTrouble } from '../connector.js';
import { exploreFolder, previewFile } from './exploreFiles.js';
import { FilesConnector } from './filesConnector.js';
import { parseFile, writeFile } from './formats.js';

let folder: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'anchor-knot-files-'));
});
afterEach(() => rmSync(folder, { recursive: true, force: true }));

const clock: Clock = { now: () => Date.now(), sleep: async () => undefined };
const csv = {
  path: 'f.csv',
  format: 'csv',
  key: 'id',
  delimiter: ',',
  quote: '"',
  encoding: 'utf-8',
  holds: 'record set',
} as const;
function open(object: object, dependencies: { clock?: Clock; folders?: string[] } = {}): FilesConnector {
  return new FilesConnector(
    filesSystemSchema.parse({ kind: 'files', name: 'F', folder, objects: { f: { key: 'id', ...object } } }),
    'f',
    { clock, folder: '/', ...dependencies },
  );
}
function connector(text: string | Buffer, format: 'csv' | 'jsonl' = 'csv', more: object = {}): FilesConnector {
  writeFileSync(join(folder, `f.${format}`), text);
  return open({ path: `f.${format}`, format, ...more });
}
async function pagesOf(files: FilesConnector, changedSince?: number) {
  const pages = [];
  for await (const page of files.read({ changedSince })) pages.push(page);
  return {
    records: pages.flatMap(({ records }) => records),
    reasons: pages.flatMap(({ unusable }) => unusable.map(({ reason }) => reason)),
  };
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
test.each(spectrum)(
  'reads %s of the public CSV suite as it is meant, and writes it back to the letter',
  async (name) => {
    const source = readFileSync(join(suite, name), 'utf8');
    const expected = JSON.parse(readFileSync(join(suite, '../json', name.replace('.csv', '.json')), 'utf8')) as Record<
      string,
      string
    >[];
    const path = join(folder, 'f.csv');
    writeFileSync(path, source);
    const file = await parseFile(path, Buffer.from(source), csv);
    expect(file.rows.map(({ fields }) => fields)).toEqual(expected);
    await writeFile(path, csv, file, Buffer.from(source));
    expect(readFileSync(path, 'utf8').replace(/\r?\n$/, '')).toBe(source.replace(/\r?\n$/, ''));
  },
);

test(
  'only what is written changes: other rows keep their quotes, order and line ends, and a ' + 'backup is kept',
  async () => {
    const text = '\uFEFFid,name,note\r\n1,"Ann, B",\'x\'\r\n2,"Bob",""\r\n';
    const files = connector(text);
    const [outcome] = await files.write([
      { kind: 'update', key: recordKey('2'), version: undefined, fields: new Map([['name', 'B "o", b']]) },
    ]);
    expect(outcome).toMatchObject({ kind: 'written' });
    expect(readFileSync(join(folder, 'f.csv'), 'utf8')).toBe(
      '\uFEFFid,name,note\r\n1,"Ann, B",\'x\'\r\n2,"B ""o"", b",\r\n',
    );
    expect(readFileSync(join(folder, 'f.csv.bak'), 'utf8')).toBe(text);
    expect(existsSync(join(folder, 'f.csv.writing'))).toBe(false);
  },
);

test.each<[string, string, RegExp]>([
  ['a quote that is not closed', 'id,name\n1,"a\n', /not a CSV file/],
  ['two lines with one key', 'id,name\n1,a\n1,b\n', /lines 2 and 3 have the same key “1”/],
  ['no column of the key', 'no,name\n1,a\n', /no column “id”/],
  ['two columns of one name', 'id,id\n1,2\n', /two columns are called “id”/],
  ['nothing at all', '', /empty/],
])('%s is refused with file and line, and the file is left alone', async (_, text, says) => {
  expect(await failure(text)).toMatch(says);
  expect(readFileSync(join(folder, 'f.csv'), 'utf8')).toBe(text);
});

test.each<[string, 'csv' | 'jsonl', string, RegExp]>([
  [
    'a line with too many values',
    'csv',
    'id,name\n1,a\n2,b,c\n3,c\n',
    /f\.csv: line 3: it has 3 values, the header has 2/,
  ],
  ['a line with too few', 'csv', 'id,name\n1,"a\nb"\n2\n3,c\n', /f\.csv: line 4: it has 1 values, the header has 2/],
  ['a row without a key', 'csv', 'id,name\n1,a\n,b\n3,c\n', /line 3 has no value in the key/],
  ['a line that is not JSON', 'jsonl', '{"id":1}\n{"id":\n{"id":3}\n', /line 2: it is not JSON/],
  ['a line that is no object', 'jsonl', '{"id":1}\n[2]\n{"id":3}\n', /line 2: it is not a JSON object/],
])(
  '%s is rejected with file and line, the others are read, and it stays in the file as it is',
  async (_, format, text, says) => {
    const files = connector(text, format);
    const { records, reasons } = await pagesOf(files);
    expect(records.map(({ key }) => key)).toEqual(['1', '3']);
    expect(reasons).toEqual([expect.stringMatching(says)]);
    await files.write([
      {
        kind: 'update',
        key: recordKey('3'),
        version: undefined,
        fields: new Map([[format === 'csv' ? 'name' : 'more', 'x']]),
      },
    ]);
    expect(
      readFileSync(join(folder, `f.${format}`), 'utf8')
        .split('\n')
        .slice(0, -2),
    ).toEqual(text.split('\n').slice(0, -2));
  },
);

test('encoding, delimiter, quote, sheets and key are recognised, and a file is written back in its own', async () => {
  const rows = 'Nummer;Name;Straße\r\nK-1;Müller & Söhne;„Am Hang“ 1\r\nK-2;Größe;\r\n'
    .replaceAll('„', '\u201e')
    .replaceAll('“', '\u201c');
  writeFileSync(join(folder, 'list.csv'), iconv.encode(rows, 'windows-1252'));
  writeFileSync(
    join(folder, 'wide.txt'),
    iconv.encode("\uFEFFid\t'name'\n'1'\t'Ørsted, \"x\"'\n", 'utf-16le', { addBOM: false }),
  );
  const workbook = new ExcelJS.Workbook();
  workbook.addWorksheet('One').addRows([
    ['code', 'when', 'sum'],
    ['a', new Date('2026-11-23T00:00:00Z'), { formula: '1+1', result: 2 }],
  ]);
  workbook.addWorksheet('Two');
  await workbook.xlsx.writeFile(join(folder, 'book.xlsx'));
  writeFileSync(join(folder, 'coming.csv.part'), 'id\n');
  const found = await exploreFolder({ name: 'F', folder }, { clock, folder: '/' });
  expect(found.map(({ path }) => path)).toEqual(['book.xlsx', 'list.csv', 'wide.txt']);
  const [book, list, wide] = found;
  expect(book).toMatchObject({ sheets: ['One', 'Two'], object: { sheet: 'One', key: 'code' } });
  expect(list?.object).toMatchObject({ encoding: 'windows-1252', delimiter: ';', key: 'Nummer' });
  expect(wide?.object).toMatchObject({ encoding: 'utf-16le', delimiter: '\t', quote: "'" });
  const preview = async (one: typeof book) =>
    (await previewFile({ name: 'F', folder }, one?.path ?? '', one?.object as never, { clock, folder: '/' })).rows;
  expect(await preview(book)).toEqual([{ code: 'a', when: '2026-11-23', sum: 2 }]);
  expect(await preview(wide)).toEqual([{ id: '1', name: 'Ørsted, "x"' }]);
  const files = open(list?.object as object);
  const outcomes = await files.write([
    { kind: 'update', key: recordKey('K-2'), version: undefined, fields: new Map([['Straße', 'Ä€']]) },
    { kind: 'update', key: recordKey('K-1'), version: undefined, fields: new Map([['Name', '🌱']]) },
  ]);
  expect(outcomes).toMatchObject([
    { kind: 'written' },
    { kind: 'refused', words: expect.stringContaining('cannot be written in windows-1252') as unknown as string },
  ]);
  const kept = iconv.decode(readFileSync(join(folder, 'list.csv')), 'windows-1252');
  expect(kept).toBe(rows.replace('Größe;', 'Größe;Ä€'));
});

test(
  'each delivery is read when it came, the newest word on a record counts, and what is wrong with one ' +
    'keeps none of the others',
  async () => {
    const at = (name: string, text: string) => writeFileSync(join(folder, name), text);
    at('leads-1.csv', 'id,name\n1,one\n2,two\n');
    await wait(20);
    at('leads-2.csv', 'id,name\n2,zwei\n3,drei\n4\n');
    at('leads-3.csv', 'id,name\n"5,fünf\n');
    at('other.csv', 'id\n9\n');
    const files = open({ path: 'leads-*.csv', format: 'csv', holds: 'deliveries' });
    const { records, reasons } = await pagesOf(files);
    expect(new Map(records.map(({ key, fields }) => [key, fields.name]))).toEqual(
      new Map([
        ['2', 'zwei'],
        ['3', 'drei'],
        ['1', 'one'],
      ]),
    );
    expect(reasons).toEqual([
      expect.stringMatching(/leads-3\.csv.*not a CSV file/),
      expect.stringMatching(/leads-2\.csv: line 4: it has 1 values/),
    ]);
    await wait(20);
    const since = Date.now();
    expect((await pagesOf(files, since)).records).toEqual([]);
    await wait(20);
    at('leads-4.csv', 'id,name\n1,eins\n');
    expect((await pagesOf(files, since)).records).toMatchObject([{ key: '1', fields: { name: 'eins' } }]);
    expect((await files.readOne(recordKey('1')))?.fields.name).toBe('eins');
    expect(
      await files.write([{ kind: 'update', key: recordKey('1'), version: undefined, fields: new Map() }]),
    ).toMatchObject([{ kind: 'refused' }]);
  },
);

test('several files together are a record set: all of them or none, and no key twice', async () => {
  const at = (name: string, text: string) => writeFileSync(join(folder, name), text);
  at('part-1.csv', 'id,name\n1,one\n');
  at('part-2.csv', 'id,name\n2,two\n');
  const files = open({ path: 'part-*.csv', format: 'csv' });
  expect((await pagesOf(files)).records.map(({ key }) => key).sort()).toEqual(['1', '2']);
  expect((await files.readOne(recordKey('2')))?.fields.name).toBe('two');
  expect(files.capabilities).toMatchObject({ create: false, update: false, changesSince: false });
  at('part-3.csv', 'id,name\n2,again\n');
  await expect(pagesOf(files)).rejects.toThrow(/has the key “2”, which is in another file already/);
  at('part-3.csv', 'no key here\n');
  await expect(pagesOf(files)).rejects.toThrow(/part-3\.csv: there is no column “id”/);
  await expect(pagesOf(open({ path: 'none-*.csv', format: 'csv' }))).rejects.toThrow(
    /there is no file like none-\*\.csv/,
  );
});

test('a file that is still being written is left alone until it is complete', async () => {
  const path = join(folder, 'f.csv');
  writeFileSync(path, 'id,name\n1,a\n2,');
  let waited = 0;
  // While we wait, the other program goes on writing, and then is done.
  const files = open(
    { path: 'f.csv', format: 'csv' },
    {
      clock: {
        now: () => Date.now(),
        sleep: async () => void ((waited += 1) < 4 && appendFileSync(path, waited < 3 ? `b${waited}` : '\n')),
      },
    },
  );
  expect((await pagesOf(files)).records.map(({ fields }) => fields.name)).toEqual(['a', 'b1b2']);
  const endless = open(
    { path: 'f.csv', format: 'csv' },
    { clock: { now: () => Date.now(), sleep: async () => appendFileSync(path, 'x') } },
  );
  await expect(pagesOf(endless)).rejects.toThrow(/still being written/);
});

test('a look tells whether there can be anything new, and nothing while somebody writes', async () => {
  const several = open({ path: 'in/*.csv', format: 'csv', holds: 'deliveries' });
  mkdirSync(join(folder, 'in'));
  const nothing = await several.look();
  expect(await several.look()).toBe(nothing);
  writeFileSync(join(folder, 'in/a.csv'), 'id,name\n1,A\n');
  writeFileSync(join(folder, 'in/b.csv.part'), 'id');
  expect(await several.look()).toBeUndefined();
  await wait(1600);
  const one = await several.look();
  expect([undefined, nothing]).not.toContain(one);
  expect(await several.look()).toBe(one);
  // As long, and at the same place: only the file system knows.
  writeFileSync(join(folder, 'in/a.csv'), 'id,name\n1,B\n');
  await wait(1600);
  const changed = await several.look();
  expect([undefined, nothing, one]).not.toContain(changed);
  rmSync(join(folder, 'in/a.csv'));
  expect(await several.look()).toBe(nothing);
  rmSync(folder, { recursive: true });
  await expect(several.look()).rejects.toThrow(SystemTrouble);
});

test('nothing outside the folders that are allowed is read, by whatever way', async () => {
  writeFileSync(join(folder, 'f.csv'), 'id\n1\n');
  const elsewhere = mkdtempSync(join(tmpdir(), 'anchor-knot-else-'));
  writeFileSync(join(elsewhere, 's.csv'), 'id\nsecret\n');
  symlinkSync(join(elsewhere, 's.csv'), join(folder, 'link.csv'));
  for (const path of ['../x.csv', '/etc/passwd', 'link.csv'])
    await expect(pagesOf(open({ path, format: 'csv' }))).rejects.toThrow(/leads out of the folder/);
  await expect(pagesOf(open({ path: 'f.csv', format: 'csv' }, { folders: [elsewhere] }))).rejects.toThrow(
    /may not read/,
  );
  expect((await pagesOf(open({ path: 'f.csv', format: 'csv' }, { folders: [folder] }))).records).toHaveLength(1);
  rmSync(elsewhere, { recursive: true });
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

test('what was written is read back at once, though the clock of the files has not moved on', async () => {
  const files = connector('{"id":"a","name":"first"}\n', 'jsonl');
  const key = recordKey('a');
  for (let round = 0; round < 60; round += 1) {
    const before = await files.readOne(key);
    const fields = new Map([['name', `written ${round}`]]);
    await files.write([{ kind: 'update', key, version: before?.version, fields }]);
    expect((await files.readOne(key))?.fields.name).toBe(`written ${round}`);
  }
});
