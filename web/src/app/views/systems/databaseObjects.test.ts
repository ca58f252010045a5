/** Tables and queries of a database as objects: what can be taken is taken, and nothing takes the place of another. */
import { jest } from '@jest/globals';
import { TestBed } from '@angular/core/testing';
import type { QueryPreview, SqlObject, System, Tables, TestSystem } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { SystemsApi } from '../../api/systemsApi';
import { hands } from '../../testing/hands';
import { refused } from '../../testing/stubs';
import { DatabaseObjects } from './databaseObjects';

const table = (schema: string, name: string, more: Partial<Tables['tables'][number]> = {}) => ({
  schema,
  table: name,
  kind: 'table' as const,
  rows: 354,
  key: 'id',
  times: ['changed_at'],
  may: ['read', 'create', 'update'] as const,
  ...more,
});

function shown(tables: readonly ReturnType<typeof table>[] = []) {
  const api = {
    tables: jest.fn((_: TestSystem) => of({ tables })),
    previewQuery: jest.fn((_: TestSystem & { sql: string }) => of<QueryPreview>({ fields: [], rows: [] })),
  };
  TestBed.configureTestingModule({ providers: [{ provide: SystemsApi, useValue: api }] });
  const fixture = TestBed.createComponent(DatabaseObjects);
  let objects: System['objects'] = {};
  fixture.componentRef.setInput('request', { description: { kind: 'sql' } });
  fixture.componentInstance.changed.subscribe((next) => fixture.componentRef.setInput('objects', (objects = next)));
  return { ...hands(fixture), api, objects: () => objects as Record<string, SqlObject> };
}

test('tables are taken with what is known of them; two of one name are told apart; one is taken out', async () => {
  const { press, tick, objects } = shown([
    table('public', 'debtor'),
    table('sales', 'debtor', { times: [], may: ['read', 'delete'] as never }),
  ]);
  await press('List the tables');
  await tick('debtor');
  await tick('sales.debtor');
  expect(objects()).toEqual({
    debtor: {
      source: { kind: 'table', schema: 'public', table: 'debtor' },
      key: 'id',
      modifiedAt: 'changed_at',
      search: [],
      mayWrite: true,
      mayDelete: false,
    },
    'sales.debtor': {
      source: { kind: 'table', schema: 'sales', table: 'debtor' },
      key: 'id',
      search: [],
      mayWrite: false,
      mayDelete: true,
    },
  });
  await tick('debtor');
  expect(Object.keys(objects())).toEqual(['sales.debtor']);
});

test('a table that cannot be read, or that no single key tells apart, cannot be taken, and that is said', async () => {
  const { press, boxOf, rows } = shown([
    table('public', 'secret', { may: [] as never }),
    table('public', 'lines', { key: null, rows: -1 }),
  ]);
  await press('List the tables');
  expect([await (await boxOf('secret')).isDisabled(), await (await boxOf('lines')).isDisabled()]).toEqual([true, true]);
  expect((await rows())[1]).toContain('no single key: write a query');
});

test('a role that sees nothing is told what to do; a refusal is shown, and gone with the next answer', async () => {
  const { press, text, api } = shown();
  api.tables.mockReturnValueOnce(refused(422, { code: 'sign-in refused', says: 'ERP refused the sign-in.' }) as never);
  await press('List the tables');
  expect(await text()).toContain('ERP refused the sign-in.');
  await press('List the tables');
  expect(await text()).toContain('This role can see no table. Give it the right to read there.');
  expect(await text()).not.toContain('refused');
});

describe('a query', () => {
  const preview: QueryPreview = {
    fields: [
      { path: 'debtor_no', type: 'text' },
      { path: 'last_order', type: 'instant' },
    ],
    rows: [{ debtor_no: 'D1', last_order: '2026-11-23T10:00:00Z' }],
  };

  test('is previewed, named, and added as what can only be read', async () => {
    const { press, type, choose, chosen, rows, objects, api } = shown();
    await press('Write a query');
    await press('Preview');
    expect(api.previewQuery).not.toHaveBeenCalled();
    api.previewQuery.mockReturnValueOnce(of(preview));
    await type('Query', ' select * from figures ');
    await press('Preview');
    expect(await rows()).toEqual(['D12026-11-23T10:00:00Z']);
    expect(await chosen('Key')).toBe('debtor_no');
    await choose('Last change in', 'last_order');
    await type('Called', ' figures ');
    await press('Add it');
    expect(objects()).toEqual({
      figures: {
        source: { kind: 'query', sql: 'select * from figures' },
        key: 'debtor_no',
        modifiedAt: 'last_order',
        search: [],
        mayWrite: false,
        mayDelete: false,
      },
    });
    expect(await type('Called', 'figures')).toBe('Say what it is called; no other object may have the name.');
    await press('Add it');
    expect(Object.keys(objects())).toEqual(['figures']);
  });

  test('that is refused says why in the database’s words, and what was previewed before is gone', async () => {
    const { press, type, text, rows, api } = shown();
    await press('Write a query');
    await type('Query', 'select 1');
    api.previewQuery.mockReturnValueOnce(of(preview));
    await press('Preview');
    api.previewQuery.mockReturnValueOnce(refused(422, { code: 'x', says: 'syntax error at “selec”' }) as never);
    await type('Query', 'selec 1');
    await press('Preview');
    expect(await text()).toContain('syntax error at “selec”');
    expect(await rows()).toEqual([]);
  });
});
