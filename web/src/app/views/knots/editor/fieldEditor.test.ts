/** A shared field by hand: names, owners and notes of given and of computed ones alike. */
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { KnotDefinition } from '@anchor-knot/contracts';
import { referTo } from '@anchor-knot/core';
import { of } from 'rxjs';
import { SeriesApi } from '../../../api/seriesApi';
import { customers, fakeEditor } from '../../../testing/fakeEditor';
import { hands } from '../../../testing/hands';
import { PlainFormula } from '../../../testing/plainParts';
import { FieldEditor } from './fieldEditor';
import { FormulaEditor } from './formulaEditor';
import { KnotEditor } from './knotEditor';

const series = [{ id: 'customers', series: { name: 'Customer numbers' }, nextText: 'HG-041' }];

async function shown(fieldId: string, { may = true, trial = undefined as unknown } = {}) {
  const targets = {
    knots: () => [{ id: 'customers', name: 'Customers' }],
    definitions: () => ({}),
    know: () => undefined,
  };
  const editor = { ...fakeEditor(customers, may), trial: signal(trial), targets };
  TestBed.configureTestingModule({
    providers: [
      provideRouter([]),
      { provide: KnotEditor, useValue: editor },
      { provide: SeriesApi, useValue: { all: () => of(series) } },
    ],
  });
  TestBed.overrideComponent(FieldEditor, { remove: { imports: [FormulaEditor] }, add: { imports: [PlainFormula] } });
  const fixture = TestBed.createComponent(FieldEditor);
  fixture.componentRef.setInput('fieldId', fieldId);
  await fixture.whenStable();
  const field = () => (editor.definition() as KnotDefinition).fields.find(({ id }) => id === fieldId);
  return { ...hands(fixture), editor, field };
}

test.each(['phone', 'contactName'])('%s gets a name, an owner and a note; what is emptied is left out', async (id) => {
  const { type, field } = await shown(id);
  await type('Name', 'Called');
  await type('Who answers for it', ' Halima Boye ');
  await type('Note', 'As printed on letters');
  expect(field()).toMatchObject({ name: 'Called', owner: 'Halima Boye', note: 'As printed on letters' });
  await type('Name', ' ');
  await type('Who answers for it', ' ');
  await type('Note', '');
  expect([field()?.name, field()?.owner, field()?.note]).toEqual(['Called', undefined, undefined]);
});

test('what refers to its own knot may say what stands under what; another type says it no more', async () => {
  const { tick, choose, editor, field } = await shown('company');
  editor.edit(referTo('company', editor.definition() as KnotDefinition));
  await tick(/^Levels/);
  await tick(/^Archived with it/);
  expect(field()).toMatchObject({ type: 'reference', refersTo: 'customers', levels: true, archivedWith: true });
  await choose('Type', /^text$/);
  expect([field()?.refersTo, field()?.levels, field()?.archivedWith]).toEqual([undefined, undefined, undefined]);
});

test('a text takes its numbers from a series, until it is of another type', async () => {
  const { choose, chosen, field, text } = await shown('company');
  expect(await chosen('Takes the next number of')).toBe('no series: systems give it');
  await choose('Takes the next number of', 'Customer numbers, next HG-041');
  expect(field()?.series).toBe('customers');
  await choose('Type', 'number');
  expect(field()?.series).toBeUndefined();
  expect(await text()).not.toContain('Takes the next number of');
});

test('another type keeps of the rule what fits it', async () => {
  const { choose, field } = await shown('creditLimit');
  await choose('Type', 'yes/no');
  expect(field()?.type).toBe('yes/no');
  expect(field()?.rule.combine).toBeUndefined();
});

test('a given field is computed and given again; a computed one shows what comes of it, or why not', async () => {
  const given = await shown('company');
  await given.press('Compute it');
  expect(given.field()?.formula).toBe('legalName');
  expect(Object.values(given.field()?.mappings ?? {}).every(({ direction }) => direction === 'to')).toBe(true);
  await given.press('Let members give it');
  expect(given.field()).not.toHaveProperty('formula');
  TestBed.resetTestingModule();
  const works = await shown('contactName', { trial: { shared: { contactName: 'Ada Reed' }, failed: {} } });
  expect(await works.text()).toContain('On the sample: Ada Reed');
  TestBed.resetTestingModule();
  const fails = await shown('contactName', { trial: { shared: {}, failed: { contactName: 'no such name' } } });
  expect(await fails.text()).toContain('no such name');
});

test('a field names anchors, or goes with all that names it; who may only look changes nothing', async () => {
  const { press, text, editor, field } = await shown('email');
  await press('Names an anchor');
  expect(editor.definition().titleField).toBe('email');
  expect(await text()).toContain('It names an anchor in lists.');
  await press('Remove this field');
  expect(field()).toBeUndefined();
  expect(editor.definition().titleField).not.toBe('email');
  TestBed.resetTestingModule();
  expect(await (await shown('email', { may: false })).buttons()).toEqual([]);
});
