/** Entity sets as objects: what the service declares is where it starts, and what it cannot do is not offered. */
import { TestBed } from '@angular/core/testing';
import type { EntitySets, ODataObject, System } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { SystemsApi } from '../../api/systemsApi';
import { hands } from '../../testing/hands';
import { ODataObjects } from './odataObjects';

const debtors: EntitySets['sets'][number] = {
  name: 'Debtors',
  key: 'DebtorNo',
  properties: ['DebtorNo', 'Mail', 'ChangedAt'],
  times: ['ChangedAt'],
  insertable: false,
  updatable: true,
};

function shown(sets: readonly EntitySets['sets'][number][], before: System['objects'] = {}) {
  TestBed.configureTestingModule({
    providers: [{ provide: SystemsApi, useValue: { entitySets: () => of({ sets }) } }],
  });
  const fixture = TestBed.createComponent(ODataObjects);
  let objects = before;
  fixture.componentRef.setInput('request', {});
  fixture.componentRef.setInput('objects', before);
  fixture.componentInstance.changed.subscribe((next) => fixture.componentRef.setInput('objects', (objects = next)));
  return { ...hands(fixture), objects: () => objects as Record<string, ODataObject> };
}

test('a set is taken as it is declared, and corrected: what tells changes, what finds, what may be done', async () => {
  const { press, tick, boxOf, choose, type, objects } = shown([debtors]);
  await press('List the entity sets');
  await tick('Debtors');
  expect(objects()).toEqual({
    Debtors: {
      entitySet: 'Debtors',
      key: 'DebtorNo',
      modifiedAt: 'ChangedAt',
      search: [],
      mayCreate: false,
      mayUpdate: true,
      mayDelete: false,
    },
  });
  expect(await (await boxOf('created')).isDisabled()).toBe(true);
  await tick('updated');
  await tick('deleted');
  await choose('Last change of Debtors', 'nothing tells');
  expect(await type('Debtors is found by', 'Mail, Fax')).toBe(
    'It has no property “Fax”. It has DebtorNo, Mail, ChangedAt.',
  );
  await type('Debtors is found by', ' Mail , ');
  expect(objects().Debtors).toEqual({
    entitySet: 'Debtors',
    key: 'DebtorNo',
    search: ['Mail'],
    mayCreate: false,
    mayUpdate: false,
    mayDelete: true,
  });
});

test('an object that bears another name than its set is found, corrected and taken out by its set', async () => {
  const kept = {
    entitySet: 'Debtors',
    key: 'DebtorNo',
    search: [],
    mayCreate: false,
    mayUpdate: false,
    mayDelete: false,
  };
  const { press, tick, objects } = shown([debtors], { customers: kept, others: { ...kept, entitySet: 'Others' } });
  await press('List the entity sets');
  await tick('updated');
  expect(objects().customers?.mayUpdate).toBe(true);
  await tick('Debtors');
  expect(Object.keys(objects())).toEqual(['others']);
});

test('a set without a single key cannot be taken; a service without sets says so', async () => {
  const { press, boxOf } = shown([{ ...debtors, key: null }]);
  await press('List the entity sets');
  expect(await (await boxOf('Debtors')).isDisabled()).toBe(true);
  TestBed.resetTestingModule();
  const empty = shown([]);
  await empty.press('List the entity sets');
  expect(await empty.text()).toContain('The service declares no entity set.');
});
