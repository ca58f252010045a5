/** The panel stands beside the work where there is room, and is a drawer where there is none. */
import { BreakpointObserver, type BreakpointState } from '@angular/cdk/layout';
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { ChangeDetectionStrategy, Component, signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MATERIAL_ANIMATIONS } from '@angular/material/core';
import { MatDrawerHarness } from '@angular/material/sidenav/testing';
import { BehaviorSubject } from 'rxjs';
import { WithSide } from './withSide';

@Component({
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [WithSide],
  template: `<ak-with-side label="The chosen cell" says="The chosen cell" [count]="3" [wanted]="wanted()"
    ><p>work</p>
    <div side>panel</div></ak-with-side
  >`,
})
class Host {
  readonly wanted = signal('');
}

function shown(isNarrow: boolean) {
  const width = new BehaviorSubject<BreakpointState>({ matches: isNarrow, breakpoints: {} });
  TestBed.configureTestingModule({
    providers: [
      { provide: BreakpointObserver, useValue: { observe: () => width } },
      { provide: MATERIAL_ANIMATIONS, useValue: { animationsDisabled: true } },
    ],
  });
  const fixture = TestBed.createComponent(Host);
  const loader = TestbedHarnessEnvironment.loader(fixture);
  const isOpen = async () => (await loader.getHarness(MatDrawerHarness)).isOpen();
  const buttons = () => loader.getAllHarnesses(MatButtonHarness);
  return { host: fixture.componentInstance, width, loader, isOpen, buttons };
}

test('where there is room it is open and has no button', async () => {
  const { isOpen, buttons } = shown(false);
  expect(await isOpen()).toBe(true);
  expect(await buttons()).toEqual([]);
});

test('where there is none a button with a count opens it, and it is closed again', async () => {
  const { isOpen, loader } = shown(true);
  expect(await isOpen()).toBe(false);
  const open = await loader.getHarness(MatButtonHarness.with({ text: /The chosen cell/ }));
  expect(await open.getText()).toMatch(/3$/);
  await open.click();
  expect(await isOpen()).toBe(true);
  await (await loader.getHarness(MatButtonHarness.with({ text: 'Close' }))).click();
  expect(await isOpen()).toBe(false);
});

test('what is asked for opens it; a window that becomes narrow does not', async () => {
  const { host, width, isOpen } = shown(false);
  await isOpen();
  width.next({ matches: true, breakpoints: {} });
  expect(await isOpen()).toBe(false);
  host.wanted.set('phone shop');
  expect(await isOpen()).toBe(true);
});

test('Escape closes it wherever the focus is; beside the work it stays', async () => {
  const { host, width, isOpen } = shown(true);
  const escape = () => document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'Escape', bubbles: true }));
  host.wanted.set('phone shop');
  expect(await isOpen()).toBe(true);
  escape();
  expect(await isOpen()).toBe(false);
  width.next({ matches: false, breakpoints: {} });
  escape();
  expect(await isOpen()).toBe(true);
});
