/** Checks are set by hand, tried on what was read, and say who would fail them. */
import { jest } from '@jest/globals';
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import type { Reading } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { customers, fakeEditor } from '../../testing/fakeEditor';
import { eventually } from '../../testing/eventually';
import { hands } from '../../testing/hands';
import { NoGoLive, PlainFormula } from '../../testing/plainParts';
import { FormulaEditor } from './editor/formulaEditor';
import { GoLive } from './editor/goLive';
import { KnotEditor } from './editor/knotEditor';
import { Surveys } from './editor/surveys';
import { TrialService } from './editor/trialService';
import { KnotChecks } from './knotChecks';

async function shown({ checks = customers.checks, may = true } = {}) {
  const editor = fakeEditor({ ...customers, checks }, may);
  editor.reading.set({
    members: [
      { id: 'crm', sample: [{ name: '' }, { name: 'Reed' }, { name: '' }] },
      { id: 'shop', sample: [{ company_name: 'Sedge' }] },
    ],
  } as unknown as Reading);
  const survey = signal<unknown>(undefined);
  const check = jest.fn((..._: unknown[]) =>
    of({
      crm: { ok: true, value: { passes: [false, true, false] } },
      shop: { ok: false, reason: 'the name is unknown here' },
    }),
  );
  TestBed.configureTestingModule({
    providers: [
      { provide: KnotEditor, useValue: editor },
      { provide: TrialService, useValue: { check } },
      { provide: Surveys, useValue: { last: survey, isCurrent: () => survey() !== undefined } },
    ],
  });
  TestBed.overrideComponent(KnotChecks, {
    remove: { imports: [FormulaEditor, GoLive] },
    add: { imports: [PlainFormula, NoGoLive] },
  });
  const fixture = TestBed.createComponent(KnotChecks);
  await fixture.whenStable();
  return { ...hands(fixture), editor, survey, check, checks: () => editor.definition().checks };
}

test('who would fail is said for each member, with examples, or why it cannot be told', async () => {
  const { rows, survey } = await shown();
  await eventually(async () => expect((await rows())[0]).toContain('Fernhill CRM: 2 of 3'));
  expect((await rows())[0]).toContain('Market Row: the name is unknown here');
  survey.set({
    members: {
      crm: { takePart: 4467, checks: { companyFilled: { fails: 12, examples: [{ title: 'Reed & Sons' }] } } },
    },
  });
  expect((await rows())[0]).toContain('Fernhill CRM: 12 of all 4,467');
  expect((await rows())[0]).not.toContain('2 of 3');
});

test('a ready-made check is added for the members that give the field, under a name of its own', async () => {
  const { choose, press, checks } = await shown();
  await choose('Field to check', 'Company');
  await choose('Ready-made check', 'is unique in its system');
  await press('Add');
  await press('Add');
  expect(checks().slice(1)).toEqual([
    expect.objectContaining({ unique: 'company', onFail: 'reject', members: ['crm', 'shop'] }),
    expect.objectContaining({ unique: 'company', onFail: 'reject', members: ['crm', 'shop'] }),
  ]);
  expect(new Set(checks().map(({ id }) => id)).size).toBe(3);
  await choose('Field to check', 'Contact');
  await choose('Ready-made check', 'is filled');
  await press('Add');
  expect(checks().at(-1)).not.toHaveProperty('members');
});

test('what it says, what follows and where it holds are set by hand; an empty text changes nothing', async () => {
  const { type, choose, tick, checks } = await shown();
  await type('What check 1 says', 'no name at all');
  await type('What check 1 says', ' ');
  await choose('What happens when check 1 fails', 'the run stops before it writes');
  expect(checks()[0]).toMatchObject({ says: 'no name at all', onFail: 'stop', members: ['crm', 'shop'] });
  await tick('Coldharbour ERP');
  await tick('Granary');
  expect(checks()[0]).not.toHaveProperty('members');
  await tick('Fernhill CRM');
  expect(checks()[0]?.members).toEqual(['shop', 'erp', 'granary']);
});

test('one is removed; where there is none it is said what a check is; who may only look changes nothing', async () => {
  const { press, checks, text } = await shown();
  await press('remove');
  expect(checks()).toEqual([]);
  expect(await text()).toContain('No record is checked yet.');
  TestBed.resetTestingModule();
  const reader = await shown({ may: false });
  expect(await reader.buttons()).toEqual([]);
});
