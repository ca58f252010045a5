/** Records as they are in their system: pages, what is searched, and what there is no room for. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import type { Sample } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { SystemsApi } from '../../api/systemsApi';
import { eventually } from '../../testing/eventually';
import { hands } from '../../testing/hands';
import { refused } from '../../testing/stubs';
import { ObjectRecords } from './objectRecords';

const sample = (records: Sample['records'], more = false): Sample => ({ records, more }) as Sample;

async function shown(first: Sample) {
  const records = jest.fn((..._: [string, string, object]) => of(first));
  TestBed.configureTestingModule({ providers: [{ provide: SystemsApi, useValue: { records } }] });
  const fixture = TestBed.createComponent(ObjectRecords);
  fixture.componentRef.setInput('system', 'fernhill');
  fixture.componentRef.setInput('object', 'accounts');
  await fixture.whenStable();
  const all = hands(fixture);
  const find = async (text: string) => {
    await all.type('Find a record by its key or a searchable field', text);
    const search = text.trim();
    await eventually(() => expect(records.mock.lastCall?.[2]).toEqual({ page: 0, search }));
    await fixture.whenStable();
  };
  return { ...all, fixture, records, find };
}

test('what is nested has columns of its own; exact numbers, lists and names with points are one value', async () => {
  const { rows } = await shown(
    sample([
      {
        key: 'A1',
        fields: { name: 'Reed', contact: { email: 'a@b.example' }, limit: { $number: '1.50' }, tags: ['x', 'y'] },
      },
      { key: 'A2', fields: { 'address.town': 'Marrowby' } },
    ]),
  );
  const [first, second] = await rows();
  expect(first).toMatch(/^A1 Reed a@b\.example 1\.50/);
  expect(second).toContain('Marrowby');
});

test('pages go on as long as there are more; another search begins with the first page', async () => {
  const { press, find, records, text } = await shown(sample([{ key: 'A1', fields: {} }], true));
  await press('Next');
  await press('Next');
  expect(records.mock.lastCall?.[2]).toEqual({ page: 2 });
  await press('Back');
  expect(await text()).toContain('page 2');
  records.mockReturnValueOnce(of(sample([])));
  await find(' D10007 ');
  expect(records.mock.lastCall?.[2]).toEqual({ page: 0, search: 'D10007' });
  expect(await text()).toContain('No record has that key or value.');
});

test('another object begins anew', async () => {
  const { press, find, fixture, records, typed } = await shown(sample([{ key: 'A1', fields: {} }], true));
  await find('Reed');
  await press('Next');
  fixture.componentRef.setInput('object', 'people');
  await fixture.whenStable();
  expect(records.mock.lastCall).toEqual(['fernhill', 'people', { page: 0 }]);
  expect(await typed('Find a record by its key or a searchable field')).toBe('');
});

test('fields that there is no room for are named', async () => {
  const fields = Object.fromEntries(Array.from({ length: 43 }, (_, index) => [`f${index}`, index]));
  const { text } = await shown(sample([{ key: 'A1', fields }]));
  expect(await text()).toContain('Not shown for want of room: f40, f41, f42');
});

test('a system that refuses says so in the place of its records', async () => {
  const { press, text, records } = await shown(sample([{ key: 'A1', fields: {} }], true));
  records.mockReturnValueOnce(refused(422, { code: 'x', says: 'Fernhill CRM refused the sign-in.' }) as never);
  await press('Next');
  expect(await text()).toContain('Fernhill CRM refused the sign-in.');
});
