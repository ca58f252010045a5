/** A value that its cell cuts is shown whole, by pointer and by keyboard; one that fits is not shown twice. */
import { FocusMonitor } from '@angular/cdk/a11y';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { ChangeDetectionStrategy, Component } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MATERIAL_ANIMATIONS } from '@angular/material/core';
import { MatTooltipHarness } from '@angular/material/tooltip/testing';
import { Value } from './value';

@Component({
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Value],
  template: `<button type="button"><ak-value value="Reed & Sedge Nurseries, Lower Saltpan" /></button>`,
})
class Cell {}

async function shown(width: { scrollWidth: number; clientWidth: number }) {
  TestBed.configureTestingModule({
    providers: [{ provide: MATERIAL_ANIMATIONS, useValue: { animationsDisabled: true } }],
  });
  const fixture = TestBed.createComponent(Cell);
  await fixture.whenStable();
  const host = fixture.nativeElement as HTMLElement;
  const value = host.querySelector('ak-value') as HTMLElement;
  for (const [name, pixels] of Object.entries(width)) Object.defineProperty(value, name, { value: pixels });
  Object.defineProperty(value, 'innerText', { get: () => value.textContent });
  const tooltip = await TestbedHarnessEnvironment.loader(fixture).getHarness(
    MatTooltipHarness.with({ selector: 'ak-value' }),
  );
  const button = host.querySelector('button') as HTMLElement;
  return { tooltip, button, focus: TestBed.inject(FocusMonitor) };
}

test('what is cut is shown whole while the pointer is over it', async () => {
  const { tooltip } = await shown({ scrollWidth: 300, clientWidth: 120 });
  await tooltip.show();
  expect(await tooltip.getTooltipText()).toBe('Reed & Sedge Nurseries, Lower Saltpan');
  await tooltip.hide();
  expect(await tooltip.isOpen()).toBe(false);
});

test('the keyboard shows it where it stands, and leaves with it', async () => {
  const { tooltip, button, focus } = await shown({ scrollWidth: 300, clientWidth: 120 });
  focus.focusVia(button, 'keyboard');
  expect(await tooltip.isOpen()).toBe(true);
  button.blur();
  expect(await tooltip.isOpen()).toBe(false);
});

test('what fits is not said twice', async () => {
  const { tooltip, button, focus } = await shown({ scrollWidth: 120, clientWidth: 120 });
  await tooltip.show();
  focus.focusVia(button, 'keyboard');
  expect(await tooltip.isOpen()).toBe(false);
});
