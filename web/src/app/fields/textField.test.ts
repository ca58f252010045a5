/** A text that is a setting by itself: what cannot be taken stays as it was typed, and changes nothing. */
import { HarnessLoader } from '@angular/cdk/testing';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { ChangeDetectionStrategy, Component, signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { TextField } from './textField';

@Component({
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [TextField],
  template: `<ak-text-field
    name="Limit"
    [value]="value()"
    [typed]="typed()"
    [mayBeEmpty]="mayBeEmpty()"
    [mayEdit]="mayEdit()"
    [refuses]="refuses"
    (changed)="take($event)"
  />`,
})
class Host {
  readonly value = signal<string | number>(300);
  readonly typed = signal(false);
  readonly mayBeEmpty = signal(false);
  readonly mayEdit = signal(true);
  readonly taken: string[] = [];
  readonly refuses = (text: string): string | undefined =>
    /^\d+$/.test(text.trim()) ? undefined : 'Use a whole number.';
  take(text: string): void {
    this.taken.push(text);
    this.value.set(text.trim());
  }
}

async function shown(change: (host: Host) => void = () => undefined) {
  const fixture = TestBed.createComponent(Host);
  change(fixture.componentInstance);
  const loader: HarnessLoader = TestbedHarnessEnvironment.loader(fixture);
  const input = await loader.getHarness(MatInputHarness);
  const field = await loader.getHarness(MatFormFieldHarness);
  const leave = async (): Promise<void> => {
    await (await input.host()).dispatchEvent('change');
    await fixture.whenStable();
  };
  return { host: fixture.componentInstance, input, field, leave, errors: () => field.getTextErrors() };
}

test('a text is taken when the field is left, and only then', async () => {
  const { host, input, leave } = await shown();
  expect(await input.getValue()).toBe('300');
  await input.setValue('40');
  await leave();
  expect(host.taken).toEqual(['40']);
  await leave();
  expect(host.taken).toEqual(['40']);
});

test('what cannot be taken says why, stays as it was typed, and is right again once it is corrected', async () => {
  const { host, input, leave, errors } = await shown();
  await input.setValue('4o');
  expect(await errors()).toEqual([]);
  await leave();
  expect(await errors()).toEqual(['Use a whole number.']);
  expect([await input.getValue(), host.taken, host.value()]).toEqual(['4o', [], 300]);
  await input.setValue('40');
  expect(await errors()).toEqual([]);
  await leave();
  expect(host.taken).toEqual(['40']);
});

test('nothing is a text only where that is said', async () => {
  const refused = await shown();
  await refused.input.setValue(' ');
  await refused.leave();
  expect(await refused.errors()).toEqual(['It may not be empty.']);
  TestBed.resetTestingModule();
  const taken = await shown((host) => host.mayBeEmpty.set(true));
  await taken.input.setValue('');
  await taken.leave();
  expect(taken.host.taken).toEqual(['']);
});

test('what comes from elsewhere replaces what stands there, and what was wrong', async () => {
  const { host, input, leave, errors } = await shown();
  await input.setValue('x');
  await leave();
  host.value.set(7);
  expect(await input.getValue()).toBe('7');
  expect(await errors()).toEqual([]);
});

test('letter by letter, a blank at the end is not taken away while one types', async () => {
  const { host, input } = await shown((one) => one.typed.set(true));
  await input.setValue('12 ');
  expect(host.taken.at(-1)).toBe('12 ');
  await input.setValue('x');
  expect(host.taken.at(-1)).not.toBe('x');
});

test('who may not edit may look', async () => {
  const { input, field } = await shown((host) => host.mayEdit.set(false));
  expect(await input.isReadonly()).toBe(true);
  expect(await (await input.host()).getAttribute('aria-label')).toBe('Limit');
  expect(await field.hasErrors()).toBe(false);
});
