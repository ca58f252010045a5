/**
 * What is stored is what was given: agreed values in their short form, and columns of JSON through a real PostgreSQL.
 */
import fc from 'fast-check';
import { Client } from 'pg';
import type { Agreed, Shared } from '@anchor-knot/core';
import { TestDatabase } from '../testing/testDatabase.js';
import { agreedFromColumn, agreedToColumn } from './rows.js';
import { fromJsonColumn, jsonColumn } from './tables/jsonColumn.js';

const giver = fc.constantFrom<Agreed['by']>(
  { kind: 'member', member: 'crm' },
  { kind: 'member', member: 'shop' },
  { kind: 'person', name: 'Ottilie' },
);
const value: fc.Arbitrary<Shared> = fc.oneof(
  fc.constant(null),
  fc.boolean(),
  fc.string(),
  fc.array(fc.string(), { maxLength: 3 }),
);
const agreed = fc.dictionary(
  fc.constantFrom('name', 'email', 'phone', 'note', 'toString'),
  fc.record({
    value,
    by: giver,
    at: fc.constantFrom(1, 2),
    why: fc.constantFrom<Agreed['why']>(
      { kind: 'edit', members: ['crm'] },
      { kind: 'person', name: 'Ottilie', over: [] },
    ),
  }),
);

test('agreed values survive their short form, which has one entry for each giver, moment and reason', () => {
  fc.assert(
    fc.property(agreed, (given) => {
      const column = agreedToColumn(given);
      expect(agreedFromColumn(JSON.parse(JSON.stringify(column)) as typeof column)).toEqual({ ...given });
      expect(column.length).toBe(
        new Set(Object.values(given).map(({ by, at, why }) => JSON.stringify([by, at, why]))).size,
      );
    }),
  );
});

test('a column of JSON values arrives as it was sent, whatever characters are in it', async () => {
  const database = await TestDatabase.start();
  const client = new Client({ connectionString: (await database.fresh()).url });
  await client.connect();
  const unit = fc.constantFrom(
    'a',
    '"',
    '\\',
    ',',
    '{',
    '}',
    '\u001e',
    '\n',
    '\t',
    'ü',
    '\u{1F33F}',
    "'",
    '$1',
    'NULL',
  );
  const json = fc.oneof(
    fc.string({ unit, maxLength: 8 }),
    fc.constant(null),
    fc.integer(),
    fc.dictionary(fc.string({ unit, maxLength: 3 }), fc.string({ unit, maxLength: 5 }), { maxKeys: 3 }),
  );
  try {
    await fc.assert(
      fc.asyncProperty(fc.array(json, { minLength: 1, maxLength: 8 }), async (values) => {
        const { rows } = await client.query<{ value: unknown }>(
          `select value::jsonb as value from unnest(${fromJsonColumn('$1')}) with ordinality as r(value, at)
            order by at`,
          [jsonColumn(values)],
        );
        expect(rows.map((row) => row.value)).toEqual(values);
      }),
      { numRuns: 150 },
    );
  } finally {
    await client.end();
    await database.stop();
  }
});
