/** A rule is put together by hand: steps are added, ordered, changed and removed. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { MatMenuHarness } from '@angular/material/menu/testing';
import { MatSelectHarness } from '@angular/material/select/testing';
import type { FieldType, Rule } from '@anchor-knot/core';
import { memberNamed } from '../../../testing/fakeEditor';
import { RuleEditor } from './ruleEditor';

const members = ['crm', 'shop', 'erp'].map((id) => memberNamed(id));

function shown(rule: Rule, types: readonly FieldType[] = ['text'], may = true) {
  const fixture = TestBed.createComponent(RuleEditor);
  const reasons: string[] = [];
  const set = (now: Rule): void => fixture.componentRef.setInput('rule', now);
  set(rule);
  fixture.componentRef.setInput('types', types);
  fixture.componentRef.setInput('members', members);
  fixture.componentRef.setInput('mayEdit', may);
  let last = rule;
  fixture.componentInstance.changed.subscribe((now) => set((last = now)));
  fixture.componentInstance.reasoned.subscribe((text) => reasons.push(text));
  const loader = TestbedHarnessEnvironment.loader(fixture);
  return {
    fixture,
    loader,
    reasons,
    rule: () => last,
    press: async (name: string) =>
      (await loader.getHarness(MatButtonHarness.with({ selector: `[aria-label="${name}"]` }))).click(),
    add: async (step: RegExp) => {
      const menu = await loader.getHarness(MatMenuHarness.with({ triggerText: 'Add a step' }));
      await menu.open();
      await menu.clickItem({ text: step });
    },
  };
}
const names = ({ steps }: Rule): string[] => steps.map(({ step }) => step);

test('steps are added before ask, moved and removed; what is left asks', async () => {
  const { rule, add, press } = shown({ steps: [{ step: 'ask' }] });
  await add(/^The newest edit/);
  await add(/^The longest/);
  expect(names(rule())).toEqual(['newest', 'longest', 'ask']);
  await press('Move The longest up');
  expect(names(rule())).toEqual(['longest', 'newest', 'ask']);
  await press('Remove The longest');
  await press('Remove The newest edit');
  expect(names(rule())).toEqual(['ask']);
});

test('an order names all members at first; they are moved, left out and taken in again', async () => {
  const { rule, add, press, loader } = shown({ steps: [{ step: 'ask' }] });
  await add(/^An order of members/);
  const order = (): readonly string[] => {
    const [step] = rule().steps;
    return step?.step === 'order' ? step.members : [];
  };
  expect(order()).toEqual(['crm', 'shop', 'erp']);
  await press('Move Coldharbour ERP up');
  await press('Leave out Fernhill CRM');
  expect(order()).toEqual(['erp', 'shop']);
  await (await loader.getHarness(MatButtonHarness.with({ text: 'and Fernhill CRM' }))).click();
  expect(order()).toEqual(['erp', 'shop', 'crm']);
});

test('the tolerance is seconds; what is none is said and changes nothing', async () => {
  const { rule, loader } = shown({ steps: [{ step: 'newest' }, { step: 'ask' }] });
  const field = await loader.getHarness(MatFormFieldHarness.with({ floatingLabelText: 'Tolerance in seconds' }));
  const input = (await field.getControl(MatInputHarness)) as MatInputHarness;
  const type = async (text: string): Promise<void> => {
    await input.setValue(text);
    await (await input.host()).dispatchEvent('change');
  };
  await type('two');
  expect(await field.getTextErrors()).toEqual(['Use seconds from 0 to 86,400.']);
  expect(rule().steps[0]).toEqual({ step: 'newest' });
  await type('60');
  expect(rule().steps[0]).toEqual({ step: 'newest', toleranceSeconds: 60 });
  await type('');
  expect(rule().steps[0]).toEqual({ step: 'newest' });
});

test.each<[readonly FieldType[], readonly string[]]>([
  [['number'], ['do not combine: one value wins', 'add up the changes']],
  [['list'], ['do not combine: one value wins', 'unite the lists']],
  [
    ['note', 'text'],
    ['do not combine: one value wins', 'merge the lines'],
  ],
])('fields of %s can be combined as fits all of them', async (types, expected) => {
  const { loader, rule } = shown({ steps: [{ step: 'ask' }] }, types);
  const select = await loader.getHarness(MatSelectHarness);
  await select.open();
  expect(await Promise.all((await select.getOptions()).map((option) => option.getText()))).toEqual(expected);
  await select.clickOptions({ text: expected[1] ?? '' });
  expect(rule().combine).toBeDefined();
  await select.clickOptions({ text: expected[0] ?? '' });
  expect('combine' in rule()).toBe(false);
});

test('of fields that fit no way of combining together none is offered', async () => {
  const { loader } = shown({ steps: [{ step: 'ask' }] }, ['number', 'date']);
  expect(await loader.getAllHarnesses(MatSelectHarness)).toEqual([]);
});

test('the reason is written beside it; who may not edit only reads', async () => {
  const { loader, reasons } = shown({ steps: [{ step: 'ask' }] });
  const field = await loader.getHarness(MatFormFieldHarness.with({ floatingLabelText: 'Why it is so' }));
  await ((await field.getControl(MatInputHarness)) as MatInputHarness).setValue('Phones are checked');
  expect(reasons.at(-1)).toBe('Phones are checked');
  TestBed.resetTestingModule();
  const reader = shown({ steps: [{ step: 'newest' }, { step: 'ask' }] }, ['text'], false);
  expect(await reader.loader.getAllHarnesses(MatButtonHarness)).toEqual([]);
});
