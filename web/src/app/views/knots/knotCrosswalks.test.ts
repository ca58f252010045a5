/** Crosswalks by hand: rows, values of each member, what was met and is missing, and files that come and go. */
import { jest } from '@jest/globals';
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { Downloads } from '../../telling/downloads';
import { customers, fakeEditor } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { NoGoLive } from '../../testing/plainParts';
import { GoLive } from './editor/goLive';
import { KnotEditor } from './editor/knotEditor';
import { Surveys } from './editor/surveys';
import { KnotCrosswalks } from './knotCrosswalks';

async function shown({ may = true, unknown = [] as { table: string; value: string; count: number }[] } = {}) {
  const editor = fakeEditor(customers, may);
  const save = jest.fn((..._: [string, string, string]) => undefined);
  const survey = unknown.length === 0 ? undefined : { members: { crm: { unknownValues: unknown } } };
  TestBed.configureTestingModule({
    providers: [
      { provide: KnotEditor, useValue: editor },
      { provide: Surveys, useValue: { last: signal(survey), isCurrent: () => true } },
      { provide: Downloads, useValue: { save } },
    ],
  });
  TestBed.overrideComponent(KnotCrosswalks, { remove: { imports: [GoLive] }, add: { imports: [NoGoLive] } });
  const fixture = TestBed.createComponent(KnotCrosswalks);
  await fixture.whenStable();
  const table = () => editor.definition().crosswalks.customerGroups;
  const give = async (text: string) => {
    const view = fixture.componentInstance as unknown as { upload(id: string, file: File): void };
    view.upload('customerGroups', { text: () => Promise.resolve(text) } as File);
    await fixture.whenStable();
  };
  return { ...hands(fixture), editor, save, table, give };
}

test('values of a member are separated by bars, and the first is what is written', async () => {
  const { type, text, table } = await shown();
  const shared = table()?.rows[0]?.shared ?? '';
  await type(`${shared} in Fernhill CRM`, ' Grower | Grower, trade | ');
  expect(table()?.rows[0]?.values.crm).toEqual(['Grower', 'Grower, trade']);
  expect(await text()).toContain('Grower is what is written');
  await type(`${shared} in Fernhill CRM`, '');
  expect(table()?.rows[0]?.values.crm).toEqual([]);
});

test('a shared value stands once; an empty one changes nothing', async () => {
  const { type, table } = await shown();
  const [first, second] = table()?.rows ?? [];
  expect(await type('Shared value 1', second?.shared ?? '')).toBe('Another row has this value.');
  await type('Shared value 1', ' ');
  expect(table()?.rows[0]?.shared).toBe(first?.shared);
  await type('Shared value 1', ' Market gardens ');
  expect(table()?.rows[0]?.shared).toBe('Market gardens');
});

test('rows come and go; a table that a field uses cannot be removed', async () => {
  const { press, buttons, table, editor } = await shown();
  const before = table()?.rows.length ?? 0;
  await press('Add a row');
  expect(table()?.rows).toHaveLength(before + 1);
  await press('remove');
  expect(table()?.rows).toHaveLength(before);
  await press('Remove');
  expect(editor.definition().crosswalks).toHaveProperty('customerGroups');
  await press('Add a crosswalk');
  expect(Object.keys(editor.definition().crosswalks)).toEqual(['customerGroups', 'table']);
  expect(await buttons()).toContain('Add a row');
});

test('a value that records have and no row has is taken in, into the row that is called so', async () => {
  const { press, text, table } = await shown({ unknown: [{ table: 'customerGroups', value: 'growers', count: 12 }] });
  expect(await text()).toContain('1 value met and not in this table:');
  const at = table()?.rows.findIndex(({ shared }) => shared.toLowerCase() === 'growers') ?? -1;
  const before = table()?.rows[at]?.values.crm ?? [];
  await press('take in');
  expect(table()?.rows[at]?.values.crm).toEqual([...before, 'growers']);
  expect(await text()).not.toContain('not in this table');
});

test('what is typed is what the system has there: a number where numbers stand, text where one does not', async () => {
  const { type, table } = await shown();
  const shared = table()?.rows[0]?.shared ?? '';
  await type(`${shared} in Market Row`, '7 | 12');
  expect(table()?.rows[0]?.values.shop).toEqual([7, 12]);
  await type(`${shared} in Market Row`, '007');
  expect(table()?.rows[0]?.values.shop).toEqual(['007']);
  await type(`${shared} in Fernhill CRM`, '7');
  expect(table()?.rows[0]?.values.crm).toEqual(['7']);
});

test('a table goes out and comes back the same; a file that is none changes nothing and says why', async () => {
  const { press, give, text, save, table } = await shown();
  await press('Download as CSV');
  const [name, type, csv] = save.mock.lastCall ?? ['', '', ''];
  expect([name, type]).toEqual(['customerGroups.csv', 'text/csv']);
  const before = table();
  await give('colour,size\nred,1\n');
  expect(table()).toEqual(before);
  expect(await text()).toMatch(/column/);
  await give(csv);
  expect(table()).toEqual(before);
});

test('who may only look changes nothing', async () => {
  expect(await (await shown({ may: false })).buttons()).toEqual(['Download as CSV']);
});
