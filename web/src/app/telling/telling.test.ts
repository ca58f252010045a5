/** What is told, and what is asked before it cannot be undone. */
import { TestbedHarnessEnvironment } from '@angular/cdk/testing/testbed';
import { HttpErrorResponse } from '@angular/common/http';
import { ChangeDetectionStrategy, Component, inject } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatButtonHarness } from '@angular/material/button/testing';
import { MATERIAL_ANIMATIONS } from '@angular/material/core';
import { MatDialogHarness } from '@angular/material/dialog/testing';
import { MatSnackBarHarness } from '@angular/material/snack-bar/testing';
import { Telling } from './telling';

@Component({ changeDetection: ChangeDetectionStrategy.OnPush, template: '' })
class Host {
  readonly telling = inject(Telling);
}

function shown() {
  TestBed.configureTestingModule({
    providers: [{ provide: MATERIAL_ANIMATIONS, useValue: { animationsDisabled: true } }],
  });
  const fixture = TestBed.createComponent(Host);
  return {
    settled: () => fixture.whenStable(),
    telling: fixture.componentInstance.telling,
    loader: TestbedHarnessEnvironment.documentRootLoader(fixture),
  };
}

test('a problem is told in the words of the server, with what was not done before it', async () => {
  const { telling, loader } = shown();
  const error = { code: 'taken', says: 'Somebody has it.', advice: 'Take another one.' };
  telling.sayProblem(new HttpErrorResponse({ status: 409, error }), 'It was not saved.');
  const snack = await loader.getHarness(MatSnackBarHarness);
  expect(await snack.getMessage()).toBe('It was not saved. Somebody has it. Take another one.');
});

test('what can be undone offers it', async () => {
  const { telling, loader } = shown();
  let undone = 0;
  telling.offer('Decided.', 'Undo').subscribe(() => (undone += 1));
  const snack = await loader.getHarness(MatSnackBarHarness);
  expect(await snack.getActionDescription()).toBe('Undo');
  await snack.dismissWithAction();
  expect(undone).toBe(1);
});

test.each([
  ['Leave it', 0],
  ['End it', 1],
])('asked back, “%s” goes on %s times', async (answer, expected) => {
  const { telling, loader, settled } = shown();
  let agreed = 0;
  telling
    .confirm({ title: 'End Customers?', says: 'No run starts any more.', action: 'End it' })
    .subscribe(() => (agreed += 1));
  const dialog = await loader.getHarness(MatDialogHarness);
  expect([await dialog.getTitleText(), await dialog.getContentText()]).toEqual([
    'End Customers?',
    'No run starts any more.',
  ]);
  await (await dialog.getHarness(MatButtonHarness.with({ text: answer }))).click();
  await settled();
  expect(agreed).toBe(expected);
});
