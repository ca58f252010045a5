/** Outcomes are told, changed and left out by hand; what is not told is left out of the definition. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { MatMenuHarness } from '@angular/material/menu/testing';
import { MatSelectHarness } from '@angular/material/select/testing';
import type { Reading } from '@anchor-knot/contracts';
import { customers, fakeEditor } from '../../../testing/fakeEditor';
import { KnotEditor } from '../editor/knotEditor';
import { Outcomes } from './outcomes';

function shown(may = true) {
  const editor = fakeEditor(customers, may);
  const there = (path: string) => ({ path, required: false, type: 'text', examples: [] });
  editor.reading.set({
    members: ['crm', 'erp'].map((id) => ({ id, trouble: null, fields: ['erpState', 'erpNo', 'booked'].map(there) })),
  } as unknown as Reading);
  TestBed.configureTestingModule({ providers: [{ provide: KnotEditor, useValue: editor }] });
  const fixture = TestBed.createComponent(Outcomes);
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const memberOf = (id: string) => editor.definition().members.find((member) => member.id === id);
  const choose = async (label: string, text: string): Promise<void> =>
    (await loader.getHarness(MatSelectHarness.with({ selector: `[aria-label="${label}"]` }))).clickOptions({ text });
  const type = async (label: string, text: string): Promise<void> => {
    const input = await loader.getHarness(MatInputHarness.with({ selector: `[aria-label="${label}"]` }));
    await input.setValue(text);
    await (await input.host()).dispatchEvent('change');
  };
  const begin = async (button: string, item: string): Promise<void> => {
    const menu = await loader.getHarness(MatMenuHarness.with({ triggerText: button }));
    await menu.clickItem({ text: item });
  };
  return { editor, fixture, loader, memberOf, choose, type, begin };
}

test('a member is told of another: fields and words are chosen, what is emptied is left out', async () => {
  const { loader, memberOf, choose, type, begin } = shown();
  await begin('Tell an outcome', 'in Fernhill CRM, what becomes in Coldharbour ERP');
  const about = 'Fernhill CRM of Coldharbour ERP';
  await choose(`State, told in ${about}`, 'erpState');
  await type(`when it is done, in ${about}`, ' Booked ');
  await type(`to have it taken again, in ${about}`, 'Ready');
  await type(`while it waits, in ${about}`, 'Waiting');
  await type(`while it waits, in ${about}`, '');
  await choose(`Key of the record there, in ${about}`, 'erpNo');
  await choose(`Why it failed or waits, in ${about}`, 'booked');
  await choose(`Why it failed or waits, in ${about}`, 'is not told');
  expect(JSON.parse(JSON.stringify(memberOf('crm')?.outcomes))).toEqual([
    { of: 'erp', state: { field: 'erpState', done: 'Booked', failed: 'failed', ready: 'Ready' }, key: 'erpNo' },
  ]);
  await choose(`State, told in ${about}`, 'is not told');
  expect(memberOf('crm')?.outcomes?.[0]?.state).toBeUndefined();
  await (await loader.getHarness(MatButtonHarness.with({ text: 'Tell it no more' }))).click();
  expect(Object.keys(memberOf('crm') ?? {})).not.toContain('outcomes');
});

test('an acknowledgement is waited for in a field, for so many minutes; others are refused', async () => {
  const { fixture, loader, memberOf, choose, type, begin } = shown();
  await begin('Wait for an acknowledgement', 'of Coldharbour ERP');
  await choose('Filled when acknowledged in Coldharbour ERP', 'booked');
  await type('Late after so many minutes in Coldharbour ERP', '90');
  await type('Late after so many minutes in Coldharbour ERP', 'soon');
  expect((fixture.nativeElement as HTMLElement).textContent).toContain('Use a whole number of minutes.');
  expect(memberOf('erp')?.acknowledges).toEqual({ field: 'booked', lateAfter: 90 });
  await (await loader.getHarness(MatButtonHarness.with({ text: 'Wait for it no more' }))).click();
  expect(memberOf('erp')?.acknowledges).toBeUndefined();
});

test('who may only look is offered nothing', async () => {
  const { loader } = shown(false);
  expect(await loader.getAllHarnesses(MatButtonHarness)).toEqual([]);
});
