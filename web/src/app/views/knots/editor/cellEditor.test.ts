/** One cell by hand: what is there is chosen from, proposals are taken or turned down, fields are made there. */
import { jest } from '@jest/globals';
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatRadioButtonHarness } from '@angular/material/radio/testing';
import type { KnotDefinition, NewField, Proposal, Reading } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { SystemsApi } from '../../../api/systemsApi';
import { fakeEditor } from '../../../testing/fakeEditor';
import { hands } from '../../../testing/hands';
import { refused, signedInAs } from '../../../testing/stubs';
import { CellEditor } from './cellEditor';
import { KnotEditor } from './knotEditor';

const there = (path: string, more: object = {}) => ({
  path,
  type: 'text',
  declared: true,
  filled: 120,
  distinct: 90,
  examples: ['Reed', 'Sedge'],
  required: false,
  readOnly: false,
  choices: null,
  longest: null,
  ...more,
});
const reading = {
  members: [
    {
      id: 'crm',
      trouble: null,
      records: 150,
      complete: true,
      key: 'id',
      may: [],
      newFieldTypes: ['text', 'date'],
      fields: [
        there('name', { required: true, filled: 150 }),
        there('createdBy', { readOnly: true, examples: ['robot'] }),
        there('vat_no'),
      ],
      sample: [],
    },
  ],
  proposals: [],
} as unknown as Reading;
const proposal: Proposal = {
  id: 'vat',
  name: 'VAT number',
  type: 'text',
  isNew: true,
  isKey: false,
  cells: [
    { member: 'crm', field: 'vat_no', direction: 'both ways', steps: [], confidence: 0.876, reasons: ['named alike'] },
    { member: 'erp', field: 'ustid', direction: 'from', steps: [], confidence: 0.8, reasons: [] },
  ],
  crosswalk: null,
};

async function shown(fieldId: string, role: 'administrator' | 'editor' = 'administrator', proposals: Proposal[] = []) {
  const plain = fakeEditor();
  plain.reading.set(reading);
  const editor = {
    ...plain,
    proposals: signal(proposals),
    accept: jest.fn((_: readonly Proposal[]) => undefined),
    turnDown: jest.fn((..._: unknown[]) => undefined),
    readWhenSaved: jest.fn((_: boolean) => undefined),
  };
  const addField = jest.fn((..._: [string, string, NewField]) => of('custom.vat'));
  TestBed.configureTestingModule({
    providers: [
      { provide: KnotEditor, useValue: editor },
      { provide: SystemsApi, useValue: { addField } },
      signedInAs(role),
    ],
  });
  const fixture = TestBed.createComponent(CellEditor);
  fixture.componentRef.setInput('fieldId', fieldId);
  fixture.componentRef.setInput('memberId', 'crm');
  await fixture.whenStable();
  const all = hands(fixture);
  const host = fixture.nativeElement as HTMLElement;
  const fields = () =>
    Array.from(host.querySelectorAll('mat-action-list button'), (one) =>
      (one.textContent ?? '').replaceAll(/\s+/g, ' '),
    );
  const choose = async (words: string) => {
    const button = Array.from(host.querySelectorAll<HTMLElement>('mat-action-list button')).find((one) =>
      one.textContent?.includes(words),
    );
    button?.click();
    await fixture.whenStable();
  };
  const direct = async (label: RegExp) => (await all.loader.getHarness(MatRadioButtonHarness.with({ label }))).check();
  const mapping = () => fieldOf(editor.definition(), fieldId)?.mappings.crm;
  return { ...all, editor, addField, fields, pick: choose, direct, mapping, fixture };
}
const fieldOf = (definition: KnotDefinition, id: string) => definition.fields.find((field) => field.id === id);

test('fields there say what they hold and who uses them, and are searched by name and example', async () => {
  const { fields, type } = await shown('company');
  expect(fields()[0]).toContain('nametext · always filled · required');
  expect(fields()[1]).toContain('filled in 120 of 150 · read only');
  expect(fields().at(-1)).toContain('key');
  await type('Search fields', 'ROBOT');
  expect(fields()).toEqual([expect.stringContaining('createdBy')]);
  await type('Search fields', 'nothing like it');
  expect(fields()).toEqual([]);
});

test('another field takes the place of the one before, with what was set; a read-only one is read from', async () => {
  const { pick, mapping } = await shown('company');
  const before = mapping();
  await pick('vat_no');
  expect(mapping()).toEqual({ ...before, field: 'vat_no' });
  await pick('createdBy');
  expect(mapping()).toEqual({ ...before, field: 'createdBy', direction: 'from' });
});

test('direction, blanks and hand edits are set, and said where they are folded', async () => {
  const { direct, choose, tick, mapping, press, text } = await shown('company');
  await direct(/^to/);
  await tick('what is not sent is blank');
  await choose('A blank is written as', 'an empty text');
  await choose('Edited there by hand', 'leave until the agreed value changes');
  expect(mapping()).toMatchObject({ direction: 'to', absentMeansBlank: true, blankAs: 'empty text', drift: 'leave' });
  expect(await text()).toContain('not sent is blank, blanks as an empty text, hand edits stay');
  await press('Remove this mapping');
  expect(mapping()).toBeUndefined();
});

test('a proposal of a new field is taken whole, or turned down for this member; its reasons are said', async () => {
  const { press, text, editor } = await shown('vat', 'editor', [proposal]);
  expect(await text()).toContain('87 percent sure. both ways.');
  expect(await text()).toContain('named alike');
  await press('Accept');
  expect(editor.accept).toHaveBeenCalledWith([proposal]);
  await press('Turn down');
  expect(editor.turnDown).toHaveBeenCalledWith(proposal, 'crm');
});

test('a proposal that is corrected is taken on with the other members as they were proposed', async () => {
  const { pick, editor } = await shown('vat', 'editor', [proposal]);
  await pick('name');
  expect(editor.accept).toHaveBeenCalledWith([{ ...proposal, cells: [proposal.cells[1]] }]);
});

test('an administrator makes a field there, which is mapped and read; a refusal leaves all as it was', async () => {
  const { press, addField, editor, mapping, text } = await shown('company');
  const before = mapping();
  addField.mockReturnValueOnce(refused(422, { code: 'x', says: 'There is a field of that name.' }) as never);
  await press('Create it in Fernhill CRM');
  expect(await text()).toContain('There is a field of that name.');
  expect(mapping()).toEqual(before);
  await press('Create it in Fernhill CRM');
  expect(addField).toHaveBeenLastCalledWith('fernhill', 'accounts', { name: 'Company', type: 'text' });
  expect(mapping()?.field).toBe('custom.vat');
  expect(editor.readWhenSaved).toHaveBeenCalledWith(true);
});

test('an editor is told who can add a field, where there is none yet', async () => {
  const { text, buttons } = await shown('legalName', 'editor');
  expect(await text()).toContain('An administrator can add a field there.');
  expect((await buttons()).join()).not.toContain('Create it');
});
