/** Versions and the draft: what differs is shown, and the way back to an older one is an edit like any other. */
import { jest } from '@jest/globals';
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import type { KnotDefinition, KnotView } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { KnotsApi } from '../../api/knotsApi';
import { customers, fakeEditor } from '../../testing/fakeEditor';
import { hands } from '../../testing/hands';
import { refused } from '../../testing/stubs';
import { KnotEditor } from './editor/knotEditor';
import { KnotHistory } from './knotHistory';

const knot = {
  id: 'customers',
  version: 2,
  versions: [
    { version: 2, madeAt: '2026-11-23T10:00:00Z', madeBy: 'Ottilie Brandt', note: 'phones' },
    { version: 1, madeAt: '2026-11-20T10:00:00Z', madeBy: 'Halima Boye', note: '' },
  ],
} as unknown as KnotView;
const older: KnotDefinition = { ...customers, name: 'Clients' };

async function shown({ hasDraft = false, may = true, view = knot } = {}) {
  const editor = {
    ...fakeEditor(customers, may),
    hasDraft: () => hasDraft,
    draft: signal({ changedAt: '2026-11-24T10:00:00Z', changedBy: 'Bram Quarrie' }),
  };
  const version = jest.fn((_: string, number: number) => of(number === 1 ? older : customers));
  TestBed.configureTestingModule({
    providers: [
      { provide: KnotEditor, useValue: editor },
      { provide: KnotsApi, useValue: { version } },
    ],
  });
  const fixture = TestBed.createComponent(KnotHistory);
  fixture.componentRef.setInput('knot', view);
  await fixture.whenStable();
  return { ...hands(fixture), editor, version };
}

test('the draft stands above the versions, and the one in force is told apart', async () => {
  const { rows } = await shown({ hasDraft: true });
  const [draft, second, first] = await rows();
  expect(draft).toMatch(/^draft.*not in force.*Bram Quarrie/);
  expect(second).toMatch(/^2.*in force.*Ottilie Brandt.*phones/);
  expect(first).not.toContain('in force');
});

test('what a version changed is said before and after', async () => {
  const { press, text, rows, version } = await shown();
  await press('What it changed');
  expect(version.mock.calls.map(([, number]) => number)).toEqual([1, 2]);
  expect(await text()).toContain('Version 2, compared with version 1');
  expect((await rows()).at(-1)).toMatch(/name.*Clients.*Customers/);
});

test('the draft is compared as it stands, also while it is edited on', async () => {
  const { press, rows, editor, text } = await shown({ hasDraft: true });
  await press('Compare with what is in force');
  expect(await text()).toContain('They are the same.');
  editor.edit((definition) => ({ ...definition, thing: 'buyer' }));
  expect((await rows()).at(-1)).toMatch(/thing.*customer.*buyer/);
});

test('going back takes the older one into the draft; a version that cannot be had is said', async () => {
  const { press, text, editor, version } = await shown();
  version.mockReturnValueOnce(refused(404, { code: 'x', says: 'There is no such version.' }) as never);
  await press('Go back to it');
  expect(await text()).toContain('There is no such version.');
  expect(editor.definition().name).toBe('Customers');
  await press('Go back to it');
  expect(editor.definition().name).toBe('Clients');
  expect(await text()).not.toContain('There is no such version.');
});

test('who may only look compares, and goes back to nothing; without a version it is said so', async () => {
  const { buttons } = await shown({ may: false });
  expect(await buttons()).toEqual(['What it changed']);
  TestBed.resetTestingModule();
  const none = await shown({ view: { ...knot, version: 0, versions: [] } });
  expect(await none.text()).toContain('No version was put in force yet.');
});
