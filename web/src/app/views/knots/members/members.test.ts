/** What is set of a knot and of its members, by hand. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { type Type } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { MatExpansionPanelHarness } from '@angular/material/expansion/testing';
import { MatSelectHarness } from '@angular/material/select/testing';
import type { Reading } from '@anchor-knot/contracts';
import { customers, fakeEditor } from '../../../testing/fakeEditor';
import { KnotEditor } from '../editor/knotEditor';
import { KnotSettingsForm } from './knotSettings';
import { MemberMore } from './memberMore';

async function shown(component: Type<unknown>, inputs: Record<string, unknown> = {}, editor = fakeEditor()) {
  TestBed.configureTestingModule({ providers: [{ provide: KnotEditor, useValue: editor }] });
  const fixture = TestBed.createComponent(component);
  for (const [name, value] of Object.entries(inputs)) fixture.componentRef.setInput(name, value);
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const panel = await loader.getHarness(MatExpansionPanelHarness);
  const field = (floatingLabelText: string) => loader.getHarness(MatFormFieldHarness.with({ floatingLabelText }));
  const type = async (label: string, text: string): Promise<void> => {
    const input = (await (await field(label)).getControl(MatInputHarness)) as MatInputHarness;
    await input.setValue(text);
    await (await input.host()).dispatchEvent('change');
  };
  const select = async (label: string) => (await (await field(label)).getControl(MatSelectHarness)) as MatSelectHarness;
  return { editor, fixture, panel, field, type, select };
}

test('a knot says folded how it is set; names, owner, labels and beginning are set by hand', async () => {
  const { editor, panel, type, select, field } = await shown(KnotSettingsForm);
  expect(await panel.getTitle().catch(() => null)).toBeDefined();
  await panel.expand();
  await type('Name', ' Clients ');
  await type('Who answers for it', 'Ottilie Brandt');
  await type('Labels', 'sales, people, sales,, ');
  await (await select('When it begins')).clickOptions({ text: /stay until somebody edits/ });
  await (await select('An anchor is named by')).clickOptions({ text: 'Legal name' });
  expect(editor.definition()).toMatchObject({
    name: 'Clients',
    owner: 'Ottilie Brandt',
    labels: ['sales', 'people'],
    start: 'adopt',
    titleField: 'legalName',
  });
  await type('Name', ' ');
  expect(await (await field('Name')).getTextErrors()).toEqual(['It may not be empty.']);
  await type('Labels', Array.from({ length: 21 }, (_, index) => `l${index}`).join());
  expect(await (await field('Labels')).getTextErrors()).toEqual(['At most 20 labels.']);
  expect(editor.definition().name).toBe('Clients');
});

test('what is emptied is left out of the definition', async () => {
  const { editor, panel, type } = await shown(KnotSettingsForm);
  await panel.expand();
  await type('Who answers for it', 'Vera');
  await type('Labels', 'x');
  await type('Who answers for it', '');
  await type('Labels', '');
  expect(Object.keys(editor.definition())).toEqual(Object.keys(customers));
});

test('what a creation needs is chosen among the fields there; what the system says itself is told', async () => {
  const editor = fakeEditor();
  const there = (path: string, required: boolean) => ({ path, required, type: 'text', examples: [] });
  editor.reading.set({
    members: [{ id: 'crm', trouble: null, fields: [there('name', true), there('vat', true), there('town', false)] }],
  } as unknown as Reading);
  const member = { ...customers.members[0], id: 'crm', required: ['name'] };
  const { fixture, panel, select } = await shown(MemberMore, { member }, editor);
  expect((fixture.nativeElement as HTMLElement).textContent).toContain('a creation needs name');
  await panel.expand();
  expect((fixture.nativeElement as HTMLElement).textContent).toContain('It says itself that it needs vat.');
  await (await select('A creation needs')).clickOptions({ text: 'vat' });
  expect(editor.definition().members.find(({ id }) => id === 'crm')?.required).toEqual(['name', 'vat']);
  await (await select('Field that carries our key')).clickOptions({ text: 'town' });
  expect(editor.definition().members.find(({ id }) => id === 'crm')?.carries).toBe('town');
  const order = await select('New records are made');
  await order.clickOptions({ text: 'in order of Last visit' });
  const crm = () => editor.definition().members.find(({ id }) => id === 'crm');
  expect(crm()?.inOrderOf).toBe('lastVisit');
  fixture.componentRef.setInput('member', crm());
  await fixture.whenStable();
  expect((fixture.nativeElement as HTMLElement).textContent).toContain(
    'records are made in order of Last visit; town carries our key',
  );
  await order.clickOptions({ text: 'as they come' });
  expect(crm()?.inOrderOf).toBeUndefined();
});
