import type { System } from '@anchor-knot/contracts';

/** What each kind's objects look like, to start from. */
export const objectExamples: Readonly<Record<System['kind'], string>> = {
  http: JSON.stringify(
    {
      contacts: {
        key: 'id',
        modifiedAt: { field: 'updatedAt', format: 'iso' },
        list: {
          path: '/api/contacts',
          items: 'data',
          pageSize: { parameter: 'limit', value: 100 },
          paging: { kind: 'cursor', parameter: 'cursor', next: 'nextCursor' },
          changedSince: { parameter: 'updatedSince', format: 'iso' },
        },
        read: { path: '/api/contacts/{key}' },
        create: { method: 'POST', path: '/api/contacts' },
        update: { method: 'PATCH', path: '/api/contacts/{key}', ifMatch: false },
      },
    },
    null,
    2,
  ),
  groups: JSON.stringify(
    { 'tickets by state': { of: 'tickets', by: 'state', figures: { hours: { field: 'hours', how: 'total' } } } },
    null,
    2,
  ),
  odata: JSON.stringify(
    {
      customers: {
        entitySet: 'Customers',
        key: 'CustomerNo',
        modifiedAt: 'ChangedAt',
        search: [],
        mayCreate: false,
        mayUpdate: false,
      },
    },
    null,
    2,
  ),
  sql: JSON.stringify(
    {
      customers: {
        source: { kind: 'table', schema: 'public', table: 'customer' },
        key: 'id',
        modifiedAt: 'changed_at',
        mayWrite: false,
      },
    },
    null,
    2,
  ),
  files: JSON.stringify({ partners: { path: 'partners.csv', format: 'csv', key: 'id' } }, null, 2),
};
