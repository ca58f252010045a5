/** Signing in leads to where the person wanted to go, and nowhere else. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import { provideRouter, Router } from '@angular/router';
import { of } from 'rxjs';
import { SessionService } from '../../api/session';
import { hands } from '../../testing/hands';
import { refused } from '../../testing/stubs';
import { SignInView } from './signInView';

function shown(from?: string) {
  const signIn = jest.fn((..._: [string, string]) => of({}));
  TestBed.configureTestingModule({
    providers: [provideRouter([{ path: '**', children: [] }]), { provide: SessionService, useValue: { signIn } }],
  });
  const fixture = TestBed.createComponent(SignInView);
  if (from !== undefined) fixture.componentRef.setInput('from', from);
  const all = hands(fixture);
  const enter = async () => {
    await all.type('Email', 'ottilie@hazelmoor.example');
    await all.type('Password', 'glasshouse');
    await all.press('Sign in');
  };
  return { ...all, signIn, enter };
}

test('nothing is sent before both are given; a refusal is shown, and what was typed stays', async () => {
  const { press, enter, text, typed, signIn } = shown();
  await press('Sign in');
  expect(await text()).toContain('Give your email and your password.');
  expect(signIn).not.toHaveBeenCalled();
  signIn.mockReturnValueOnce(refused(401, { code: 'x', says: 'Email or password is wrong.' }) as never);
  await enter();
  expect(await text()).toContain('Email or password is wrong.');
  expect(await typed('Email')).toBe('ottilie@hazelmoor.example');
  await press('Sign in');
  expect(TestBed.inject(Router).url).toBe('/watch');
});

test.each([
  ['/knots/customers/fields?field=phone', '/knots/customers/fields?field=phone'],
  ['https://elsewhere.example', '/watch'],
  ['//elsewhere.example/watch', '/watch'],
  ['/sign-in?from=/sign-in', '/watch'],
  ['', '/watch'],
])('from %s the person comes to %s', async (from, to) => {
  const { enter } = shown(from);
  await enter();
  expect(TestBed.inject(Router).url).toBe(to);
});
