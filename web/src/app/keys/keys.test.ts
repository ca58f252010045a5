/** Keys: whoever registers them last is asked first, typing is no command, and a view that is gone hears nothing. */
import { Component, ChangeDetectionStrategy, inject } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { MatDialog } from '@angular/material/dialog';
import { Keys } from './keys';

const pressed: string[] = [];
beforeEach(() => {
  pressed.length = 0;
  TestBed.configureTestingModule({ providers: [{ provide: MatDialog, useValue: { openDialogs: [] } }] });
});

@Component({
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: '<input matInput /><div tabindex="0"></div>',
})
class Frame {
  constructor() {
    inject(Keys).register([
      { key: 'g w', says: 'go to Watch', act: () => void pressed.push('watch') },
      { key: 'u', says: 'undo here', act: () => void pressed.push('frame') },
      { key: 'ctrl+k', says: 'search', act: () => void pressed.push('search') },
    ]);
  }
}
@Component({ changeDetection: ChangeDetectionStrategy.OnPush, template: '' })
class View {
  static declines = false;
  constructor() {
    inject(Keys).register([
      { key: 'u', says: 'undo there', act: () => (View.declines ? false : void pressed.push('view')) },
    ]);
  }
}

function press(key: string, on: EventTarget = document.body, more: KeyboardEventInit = {}): boolean {
  return !on.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true, ...more }));
}

test('the view comes before its frame, gives way where it is not meant, and is forgotten when it is gone', () => {
  TestBed.createComponent(Frame);
  const view = TestBed.createComponent(View);
  expect(press('u')).toBe(true);
  View.declines = true;
  press('u');
  View.declines = false;
  expect(
    TestBed.inject(Keys)
      .bindings()
      .map(({ says }) => says),
  ).toContain('undo there');
  view.destroy();
  press('u');
  expect(pressed).toEqual(['view', 'frame', 'frame']);
  expect(
    TestBed.inject(Keys)
      .bindings()
      .map(({ says }) => says),
  ).not.toContain('undo there');
});

test('what is typed is no command; with Ctrl it is one everywhere', () => {
  const fixture = TestBed.createComponent(Frame);
  document.body.append(fixture.nativeElement as HTMLElement);
  const input = (fixture.nativeElement as HTMLElement).querySelector('input') as HTMLInputElement;
  expect(press('u', input)).toBe(false);
  expect(press('k', input, { ctrlKey: true })).toBe(true);
  input.type = 'checkbox';
  press('u', input);
  expect(pressed).toEqual(['search', 'frame']);
});

test('a key after another one, at once or not', () => {
  TestBed.createComponent(Frame);
  press('g');
  press('w');
  press('w');
  expect(pressed).toEqual(['watch']);
});

test('a dialog has all keys for itself', () => {
  const dialog = TestBed.inject(MatDialog) as unknown as { openDialogs: unknown[] };
  TestBed.createComponent(Frame);
  dialog.openDialogs.push({});
  press('u');
  dialog.openDialogs.length = 0;
  expect(pressed).toEqual([]);
});
