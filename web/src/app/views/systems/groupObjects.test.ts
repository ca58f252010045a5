/** Groups of things as objects: chosen from knots and their fields, counted and added up, changed and taken out. */
import { TestBed } from '@angular/core/testing';
import { groupsSystemSchema, type GroupObject, type System } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { KnotsApi } from '../../api/knotsApi';
import { hands } from '../../testing/hands';
import { quiet } from '../../testing/stubs';
import { GroupObjects } from './groupObjects';
import { draftOf, readDraft } from './systemDraft';

const field = (id: string, name: string, type: string) => ({ id, name, type });
const tickets = {
  id: 'tickets',
  fields: [
    field('state', 'State', 'choice'),
    field('hours', 'Hours', 'number'),
    field('opened', 'Opened', 'date'),
    field('note', 'Note', 'text'),
  ],
};

function shown(before: Record<string, GroupObject> = {}) {
  const knots = [
    { id: 'tickets', name: 'Tickets', version: 3 },
    { id: 'orders', name: 'Orders', version: 0 },
  ];
  const api = { knots: () => of(knots), version: () => of(tickets) };
  TestBed.configureTestingModule({ providers: [quiet, { provide: KnotsApi, useValue: api }] });
  const fixture = TestBed.createComponent(GroupObjects);
  let objects: System['objects'] = before;
  fixture.componentRef.setInput('objects', before);
  fixture.componentInstance.changed.subscribe((next) => fixture.componentRef.setInput('objects', (objects = next)));
  return { ...hands(fixture), objects: () => objects };
}

test('groups are made of the things of a knot that is in force, with what can be added up', async () => {
  const { press, choose, type, text, rows, objects } = shown();
  await press('Add the groups');
  expect(objects()).toEqual({});
  expect(await text()).toContain('Choose a knot.');
  await expect(choose('Of the things of', 'Orders')).rejects.toThrow();
  await choose('Of the things of', 'Tickets');
  await choose('Taken together by', 'State');
  await expect(choose('Added up', 'Opened')).rejects.toThrow();
  await choose('Added up', 'Hours');
  await choose('Greatest of', /Hours|Opened/);
  await type('Groups, called', ' states ');
  await press('Add the groups');
  expect(objects()).toEqual({
    states: {
      ...{ of: 'tickets', by: 'state' },
      figures: {
        'total hours': { field: 'hours', how: 'total' },
        'greatest hours': { field: 'hours', how: 'greatest' },
        'greatest opened': { field: 'opened', how: 'greatest' },
      },
    },
  });
  expect(await rows()).toEqual([
    expect.stringContaining('TicketsStatehow many, total of Hours, greatest of Hours, greatest of Opened'),
  ]);
  await choose('Of the things of', 'Tickets');
  await choose('Taken together by', 'Note');
  expect(await type('Groups, called', 'states')).toContain('no other object may have the name');
});

test('what is changed keeps its place, and the names that are mapped; it can be left, and taken out', async () => {
  const hours = { spent: { field: 'hours', how: 'total' as const } };
  const before = {
    first: { of: 'tickets', by: 'state', figures: hours },
    second: { of: 'tickets', by: 'note', figures: {} },
  };
  const { press, type, typed, choose, objects } = shown(before);
  await press('Change first');
  expect(await typed('Groups, called')).toBe('first');
  await press('Leave it as it was');
  expect([objects(), await typed('Groups, called')]).toEqual([before, '']);
  await press('Change first');
  await type('Groups, called', 'states');
  await choose('Least of', 'Opened');
  await press('Keep the change');
  expect(Object.entries(objects())).toEqual([
    [
      'states',
      {
        ...before.first,
        figures: { ...hours, 'least opened': { field: 'opened', how: 'least' } },
      },
    ],
    ['second', before.second],
  ]);
  await press('Take out states');
  expect(Object.keys(objects())).toEqual(['second']);
});

test('the description is what was typed, without what only other kinds have', () => {
  const system = groupsSystemSchema.parse({
    ...{ kind: 'groups', name: 'Counted' },
    objects: { states: { of: 'tickets', by: 'state' } },
  });
  const draft = draftOf(system);
  expect(readDraft({ ...draft, zone: 'Europe/London' })).toEqual({ ok: true, description: system });
  expect(readDraft({ ...draft, objects: '{"states":{"of":"tickets","by":"state","figures":{"count":1}}}' }).ok).toBe(
    false,
  );
});
