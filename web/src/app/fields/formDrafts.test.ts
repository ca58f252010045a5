/** What is typed into a long form outlives a reload, until it was sent; what is secret does not. */
import { jest } from '@jest/globals';
import { DestroyRef } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { FormControl, FormGroup } from '@angular/forms';
import { FormDrafts } from './formDrafts';

const form = () => new FormGroup({ name: new FormControl(''), secret: new FormControl('') });
beforeEach(() => jest.useFakeTimers());
afterEach(() => {
  jest.useRealTimers();
  sessionStorage.clear();
});

function typed(name: string, values: Record<string, string>): FormDrafts {
  const drafts = TestBed.inject(FormDrafts);
  const first = form();
  expect(drafts.keep(name, first, TestBed.inject(DestroyRef), ['secret'])).toBe(false);
  first.markAsDirty();
  first.patchValue(values);
  jest.advanceTimersByTime(1000);
  return drafts;
}

test('it is there again in the next form of that name, without the secret', () => {
  const drafts = typed('system new', { name: 'Parcel tracker', secret: 'x7' });
  const next = form();
  expect(drafts.keep('system new', next, TestBed.inject(DestroyRef), ['secret'])).toBe(true);
  expect([next.value, next.dirty]).toEqual([{ name: 'Parcel tracker', secret: '' }, true]);
  expect(JSON.stringify(sessionStorage)).not.toContain('x7');
  const other = form();
  expect(drafts.keep('system erp', other, TestBed.inject(DestroyRef))).toBe(false);
});

test('what was sent is forgotten, and what is no draft is left alone', () => {
  const drafts = typed('knot', { name: 'Clients' });
  drafts.forget('knot');
  expect(drafts.keep('knot', form(), TestBed.inject(DestroyRef))).toBe(false);
  sessionStorage.setItem('anchor-knot-form knot', 'not JSON');
  expect(drafts.keep('knot', form(), TestBed.inject(DestroyRef))).toBe(false);
});

test('what was typed right before it was sent is not kept after all', () => {
  const drafts = TestBed.inject(FormDrafts);
  const sent = form();
  drafts.keep('knot', sent, TestBed.inject(DestroyRef));
  sent.markAsDirty();
  sent.patchValue({ name: 'Clients' });
  drafts.forget('knot');
  jest.advanceTimersByTime(1000);
  expect(sessionStorage).toHaveLength(0);
});

test('a form that is only filled, not typed into, leaves nothing behind', () => {
  const drafts = TestBed.inject(FormDrafts);
  const filled = form();
  drafts.keep('knot', filled, TestBed.inject(DestroyRef));
  filled.patchValue({ name: 'as it is there' });
  jest.advanceTimersByTime(1000);
  expect(sessionStorage).toHaveLength(0);
});
