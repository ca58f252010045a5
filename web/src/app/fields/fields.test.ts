/** The other fields: a choice, a file, a new field of a system. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { MatSelectHarness } from '@angular/material/select/testing';
import { ChoiceField, choicesOf } from './choiceField';
import { FileButton } from './fileButton';
import { NewFieldForm } from './newFieldForm';

test('a choice is taken at once; one that is off cannot be chosen', async () => {
  const fixture = TestBed.createComponent(ChoiceField);
  const taken: unknown[] = [];
  fixture.componentInstance.changed.subscribe((value) => taken.push(value));
  const choices = [...choicesOf(['red', 'green']), { value: 'blue', says: 'blue, later', isOff: true }];
  fixture.componentRef.setInput('choices', choices);
  fixture.componentRef.setInput('value', 'red');
  fixture.componentRef.setInput('label', 'Colour');
  const select = await TestbedHarnessEnvironment.loader(fixture).getHarness(MatSelectHarness);
  expect(await select.getValueText()).toBe('red');
  await select.clickOptions({ text: 'green' });
  expect(taken).toEqual(['green']);
  await select.open();
  const off = (await select.getOptions({ text: 'blue, later' }))[0];
  expect(await off?.isDisabled()).toBe(true);
  fixture.componentRef.setInput('mayEdit', false);
  expect(await select.isDisabled()).toBe(true);
});

test('a list with nothing in it says so', async () => {
  const fixture = TestBed.createComponent(ChoiceField);
  fixture.componentRef.setInput('choices', []);
  fixture.componentRef.setInput('value', undefined);
  fixture.componentRef.setInput('name', 'Table');
  const select = await TestbedHarnessEnvironment.loader(fixture).getHarness(MatSelectHarness);
  await select.open();
  expect(await (await select.getOptions())[0]?.getText()).toBe('nothing to choose from');
});

test('the same file can be chosen twice', async () => {
  const fixture = TestBed.createComponent(FileButton);
  fixture.componentRef.setInput('says', 'Take in a CSV');
  fixture.componentRef.setInput('accepts', '.csv');
  await fixture.whenStable();
  const names: string[] = [];
  fixture.componentInstance.chosen.subscribe(({ name }) => names.push(name));
  const picker = (fixture.nativeElement as HTMLElement).querySelector('input') as HTMLInputElement;
  const opened: string[] = [];
  picker.click = () => opened.push(picker.ariaLabel ?? '');
  await (await TestbedHarnessEnvironment.loader(fixture).getHarness(MatButtonHarness)).click();
  expect(opened).toEqual(['Take in a CSV']);
  for (const _ of [1, 2]) {
    Object.defineProperty(picker, 'files', { value: [new File(['a'], 'fields.csv')], configurable: true });
    picker.dispatchEvent(new Event('change'));
    expect(picker.value).toBe('');
  }
  expect(names).toEqual(['fields.csv', 'fields.csv']);
});

test('a new field begins with a name and a type that is offered, and is made only with a name', async () => {
  const fixture = TestBed.createComponent(NewFieldForm);
  fixture.componentRef.setInput('types', ['text', 'number']);
  fixture.componentRef.setInput('called', 'Glass area');
  fixture.componentRef.setInput('type', 'phone');
  fixture.componentRef.setInput('action', 'Add it');
  const made: unknown[] = [];
  fixture.componentInstance.made.subscribe((field) => made.push(field));
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const [name, type] = [await loader.getHarness(MatInputHarness), await loader.getHarness(MatSelectHarness)];
  expect([await name.getValue(), await type.getValueText()]).toEqual(['Glass area', 'text']);
  await type.clickOptions({ text: 'number' });
  await name.setValue('  ');
  const add = await loader.getHarness(MatButtonHarness.with({ text: 'Add it' }));
  await add.click();
  expect(made).toEqual([]);
  const field = await loader.getHarness(MatFormFieldHarness.with({ floatingLabelText: 'Name' }));
  expect(await field.getTextErrors()).toEqual(['Give it a name.']);
  await name.setValue(' Panes ');
  // The types come anew while the person types: nothing of it is lost.
  fixture.componentRef.setInput('types', ['text', 'number', 'date']);
  await add.click();
  expect(made).toEqual([{ name: 'Panes', type: 'number' }]);
});
