/** Light or dark as the system says, until a person chooses; what was chosen stays. */
import { BreakpointObserver, type BreakpointState } from '@angular/cdk/layout';
import { TestBed } from '@angular/core/testing';
import { BehaviorSubject } from 'rxjs';
import { Theme } from './theme';

function begun(isSystemDark: boolean) {
  const system = new BehaviorSubject<BreakpointState>({ matches: isSystemDark, breakpoints: {} });
  TestBed.configureTestingModule({ providers: [{ provide: BreakpointObserver, useValue: { observe: () => system } }] });
  const theme = TestBed.inject(Theme);
  const shown = () => {
    TestBed.tick();
    return document.documentElement.classList.contains('dark') ? 'dark' : 'light';
  };
  const becomes = (isDark: boolean) => system.next({ matches: isDark, breakpoints: {} });
  return { theme, shown, becomes };
}
beforeEach(() => localStorage.clear());

test('the system is followed, also when it changes', () => {
  const { shown, becomes } = begun(false);
  expect(shown()).toBe('light');
  becomes(true);
  expect(shown()).toBe('dark');
});

test('who has chosen is asked no more, also not by the next page', () => {
  const { theme, shown, becomes } = begun(true);
  theme.toggle();
  expect(shown()).toBe('light');
  becomes(false);
  becomes(true);
  expect(shown()).toBe('light');
  TestBed.resetTestingModule();
  const next = begun(true);
  expect(next.shown()).toBe('light');
  next.theme.toggle();
  expect(next.shown()).toBe('dark');
});
