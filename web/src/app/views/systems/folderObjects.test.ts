/** Files as objects: how they are written was recognised, can be corrected, and is shown on their rows at once. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { type FileObject, fileObjectSchema, type FilePreview, type System } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { SystemsApi } from '../../api/systemsApi';
import { hands } from '../../testing/hands';
import { refused } from '../../testing/stubs';
import { FolderObjects } from './folderObjects';

const found = (path: string, more: object = {}, problem?: string) => ({
  path,
  bytes: 2048,
  changedAt: '2026-11-23T10:00:00Z',
  object: fileObjectSchema.parse({ path, format: 'csv', key: 'email', ...more }),
  sheets: ['Leads', 'Old'],
  ...(problem === undefined ? {} : { problem }),
});
const preview: FilePreview = {
  columns: ['email', 'name', 'changed'],
  rows: [{ email: 'reed@growers.example', name: 'Reed', changed: '' }],
  count: 12,
  rejected: [{ line: 7, reason: 'has 2 fields, not 3' }],
};

function shown(files: readonly ReturnType<typeof found>[], before: System['objects'] = {}) {
  const api = {
    folderFiles: () => of({ files }),
    previewFile: jest.fn((_: { path: string; object: FileObject }) => of(preview)),
  };
  TestBed.configureTestingModule({ providers: [{ provide: SystemsApi, useValue: api }] });
  const fixture = TestBed.createComponent(FolderObjects);
  let objects = before;
  fixture.componentRef.setInput('request', { description: { kind: 'files' } });
  fixture.componentRef.setInput('objects', before);
  fixture.componentInstance.changed.subscribe((next) => fixture.componentRef.setInput('objects', (objects = next)));
  return { ...hands(fixture), api, objects: () => objects as Record<string, FileObject> };
}

test('files are named after themselves; two of one name in two folders stay two', async () => {
  const { press, tick, objects } = shown([found('leads.csv'), found('old/leads.csv')]);
  await press('List the files');
  await tick('leads.csv');
  await tick('old/leads.csv');
  expect(Object.entries(objects()).map(([name, { path }]) => [name, path])).toEqual([
    ['leads', 'leads.csv'],
    ['old/leads.csv', 'old/leads.csv'],
  ]);
  await tick('leads.csv');
  expect(Object.keys(objects())).toEqual(['old/leads.csv']);
});

test('how a file is written is corrected before it is taken, and the correction is taken with it', async () => {
  const { press, tick, choose, rows, text, objects, api } = shown([found('leads.csv')]);
  await press('List the files');
  await press('Look');
  expect((await rows()).at(-1)).toBe('reed@growers.exampleReed');
  expect(await text()).toContain('12 rows · 1 line that cannot be taken: line 7: has 2 fields, not 3');
  await choose('Delimiter', 'semicolon');
  await choose('Encoding', 'windows-1252');
  await choose('Key', 'name');
  await choose('Last change in', 'changed');
  expect(api.previewFile.mock.lastCall?.[0].object).toMatchObject({ delimiter: ';', encoding: 'windows-1252' });
  expect(objects()).toEqual({});
  await tick('leads.csv');
  expect(objects().leads).toMatchObject({
    delimiter: ';',
    encoding: 'windows-1252',
    key: 'name',
    modifiedAt: 'changed',
  });
  await choose('Last change in', 'nothing tells');
  expect(objects().leads).not.toHaveProperty('modifiedAt');
});

test('a delivery brings a pattern for those that come, and then means all of them', async () => {
  const { press, tick, choose, typed, type, boxOf, objects } = shown([
    found('in/leads-2026-11-23.csv'),
    found('in/leads-2026-11-24.csv'),
  ]);
  await press('List the files');
  await tick('in/leads-2026-11-23.csv');
  await press('Look');
  await choose('The folder brings', /deliveries/);
  expect(await typed('Files, * stands for anything')).toBe('in/leads-*.csv');
  expect(Object.values(objects())).toEqual([expect.objectContaining({ holds: 'deliveries', path: 'in/leads-*.csv' })]);
  expect(await (await boxOf('in/leads-2026-11-24.csv')).isChecked()).toBe(true);
  await type('Files, * stands for anything', 'in/*-2026-*.csv');
  expect(Object.values(objects())[0]?.path).toBe('in/*-2026-*.csv');
});

test('of a workbook the sheet is chosen; what cannot be read says so, and shows no rows of before', async () => {
  const { press, choose, rows, text, api } = shown([
    found('leads.xlsx', { format: 'xlsx' }),
    found('broken.csv', {}, 'It is no text.'),
  ]);
  await press('List the files');
  expect((await rows())[1]).toContain('It is no text.');
  await press('Look');
  expect(await rows()).toHaveLength(3);
  api.previewFile.mockReturnValueOnce(refused(422, { code: 'file', says: 'There is no sheet “Old”.' }) as never);
  await choose('Sheet', 'Old');
  expect(await text()).toContain('There is no sheet “Old”.');
  expect(await rows()).toHaveLength(2);
});

test('a folder without files says what it waits for', async () => {
  const { press, text } = shown([]);
  await press('List the files');
  expect(await text()).toContain('There is no CSV, JSON Lines or XLSX file in it yet.');
});
