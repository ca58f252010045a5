/** A translation is put together by hand: steps are added, set, ordered and removed, and none is set to nonsense. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MatCheckboxHarness } from '@angular/material/checkbox/testing';
import { MatFormFieldHarness } from '@angular/material/form-field/testing';
import { MatInputHarness } from '@angular/material/input/testing';
import { MatMenuHarness } from '@angular/material/menu/testing';
import { MatSelectHarness } from '@angular/material/select/testing';
import type { Step } from '@anchor-knot/core';
import { StepChain } from './stepChain';

async function shown(steps: readonly Step[], crosswalks: Record<string, unknown> = {}, mayEdit = true) {
  const fixture = TestBed.createComponent(StepChain);
  const state = { steps };
  fixture.componentRef.setInput('steps', steps);
  fixture.componentRef.setInput('crosswalks', crosswalks);
  fixture.componentRef.setInput('mayEdit', mayEdit);
  fixture.componentInstance.changed.subscribe((changed) => {
    state.steps = changed;
    fixture.componentRef.setInput('steps', changed);
  });
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const field = (floatingLabelText: string) => loader.getHarness(MatFormFieldHarness.with({ floatingLabelText }));
  const press = async (label: string) =>
    (await loader.getHarness(MatButtonHarness.with({ selector: `[aria-label="${label}"]` }))).click();
  const add = async (text: RegExp) => {
    const menu = await loader.getHarness(MatMenuHarness);
    await menu.open();
    await menu.clickItem({ text });
  };
  await fixture.whenStable();
  return { fixture, loader, field, press, add, state };
}

test('steps are added at the end, moved, and removed', async () => {
  const { state, add, press } = await shown([]);
  await add(/^Trim/);
  await add(/^Cut/);
  await add(/^Phone/);
  expect(state.steps.map(({ kind }) => kind)).toEqual(['trim', 'cut', 'phone']);
  await press('Move Phone up');
  await press('Move Trim down');
  expect(state.steps.map(({ kind }) => kind)).toEqual(['phone', 'trim', 'cut']);
  await press('Remove the step Trim');
  expect(state.steps.map(({ kind }) => kind)).toEqual(['phone', 'cut']);
});

test('a part is set in its place; what it cannot be is said, and the step stays as it was', async () => {
  const { state, field, loader } = await shown([{ kind: 'trim' }, { kind: 'cut', length: 40 }]);
  const length = (await (await field('Characters')).getControl(MatInputHarness)) as MatInputHarness;
  // It is taken as it is typed: `2.` is no 2, after which the 5 would make 25 of what was to be 2.5.
  for (const nonsense of ['many', '-1', '2.5', '1e3', '100001', '9'.repeat(400)]) {
    await length.setValue(nonsense);
    expect(await (await field('Characters')).getTextErrors()).toEqual(['Use a whole number of at most 100,000.']);
    expect(await length.getValue()).toBe(nonsense);
  }
  await length.setValue('12');
  await (await loader.getHarness(MatCheckboxHarness)).check();
  expect(state.steps).toEqual([{ kind: 'trim' }, { kind: 'cut', length: 12, ellipsis: true }]);
});

test('a choice is one of those there are; a crosswalk is offered only where there is one', async () => {
  const without = await shown([{ kind: 'case', side: 'shared', form: 'lower' }]);
  const letters = (await (await without.field('Letters')).getControl(MatSelectHarness)) as MatSelectHarness;
  await letters.clickOptions({ text: 'capital' });
  expect(without.state.steps).toEqual([{ kind: 'case', side: 'shared', form: 'upper' }]);
  const menu = await without.loader.getHarness(MatMenuHarness);
  await menu.open();
  const [crosswalk] = await menu.getItems({ text: /^Crosswalk/ });
  expect(await crosswalk?.isDisabled()).toBe(true);
});

test('who may not edit sees the steps and nothing to change them by', async () => {
  const { loader, fixture } = await shown([{ kind: 'trim' }, { kind: 'cut', length: 40 }], {}, false);
  expect(await loader.getAllHarnesses(MatButtonHarness)).toHaveLength(0);
  expect(await (await loader.getHarness(MatCheckboxHarness)).isDisabled()).toBe(true);
  expect((fixture.nativeElement as HTMLElement).textContent).toContain('blanks at the ends do not count');
});
