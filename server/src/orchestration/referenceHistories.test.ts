/**
 * The histories of two knots that refer to each other, on the server’s runs with PostgreSQL. `SERVER_HISTORIES` says
 * how many.
 */
import fc from 'fast-check';
import {
  Both,
  howMany,
  plainReferences as plain,
  referenceChoices,
  type ReferenceChoices,
  referenceHistories,
  referringKnot,
} from '@anchor-knot/core/testing';
import { recordKey } from '@anchor-knot/core';
import type { DataSource } from 'typeorm';
import { knotsLeftBehind } from '../triggers/releases.js';
import { saySubstitute } from '../persistence/tables/substitutes.js';
import { PlayedServer } from '../testing/playedServer.js';
import { TestDatabase } from '../testing/testDatabase.js';

const histories = howMany(process.env.SERVER_HISTORIES, 25);
let database: TestDatabase;
beforeAll(async () => {
  database = await TestDatabase.start();
});
afterAll(async () => {
  await database.stop();
});

async function bothServers(data: DataSource, choices: ReferenceChoices): Promise<Both<PlayedServer>> {
  return new Both(
    {
      orders: await PlayedServer.begin(data, referringKnot('orders', choices)),
      buyers: await PlayedServer.begin(data, referringKnot('buyers', choices)),
    },
    async (substitute) => {
      await saySubstitute(data, substitute, 'Maren Holt', new Date());
    },
  );
}

interface Wanted {
  readonly knot: string;
  readonly by: { readonly member: string } | { readonly field: string };
  readonly value: string | null;
  readonly thing: string | null;
}

async function waitingIn(data: DataSource): Promise<readonly Wanted[]> {
  const rows = (await data.query(
    `select detail from decision where kind = 'waiting' and closed_at is null order by id`,
  )) as { detail: Wanted }[];
  return rows.map(({ detail }) => detail);
}

test('Ordered, Released and Quiet hold for things that refer to each other in a circle', async () => {
  const seen = { waiting: 0, told: 0 };
  const { data } = await database.fresh();
  await fc.assert(
    fc.asyncProperty(referenceChoices, referenceHistories, async (choices, history) => {
      await data.query('truncate knot cascade');
      const both = await bothServers(data, choices);
      await (await both.begin(choices)).play(history);
      const { orders, buyers } = await both.settle();
      expect([...orders.operations, ...buyers.operations]).toEqual([]);
      expect(both.faults).toEqual([]);
      const names = both.names();
      const waiting = await waitingIn(data);
      const isThere = ({ knot, by, value, thing }: Wanted): boolean =>
        value !== null
          ? ['one', 'nobody'].includes(names.find(knot, by, value).kind)
          : names.nameOf(knot, by, thing as never) !== undefined;
      expect(waiting.filter(isThere)).toEqual([]);
      seen.waiting += waiting.length;
      for (const { records } of Object.values(both.of))
        for (const member of records.values())
          for (const { key, fields } of member.values())
            if (key.includes('-') && typeof fields.ref === 'string') seen.told += 1;
    }),
    histories,
  );
  for (const [what, count] of Object.entries(seen)) expect([what, count > 0]).toEqual([what, true]);
}, 3_600_000);

test('a run that finds a thing to be gone wakes what is archived with it, and nothing else', async () => {
  const { data } = await database.fresh();
  const both = await bothServers(data, { ...plain, archivedWith: true });
  const { orders, buyers } = both.of;
  for (const [record, key] of [
    ['7', 'k'],
    ['8', 'stays'],
  ] as const)
    buyers.edit('a', record, 'key', key);
  for (const record of ['1', '2']) {
    orders.edit('a', record, 'key', `o${record}`);
    orders.edit('a', record, 'ref', record === '1' ? '7' : '8');
  }
  await both.settle();
  for (const member of ['a', 'b', 'c'])
    for (const { key, fields } of [...(buyers.records.get(member)?.values() ?? [])])
      if (fields.key === 'k') buyers.delete(member, key);
  await buyers.run({ full: true });
  const [{ id: run } = { id: '' }] = (await data.query(
    `select id from run where knot_id = 'buyers' order by started_at desc limit 1`,
  )) as { id: string }[];
  expect(await knotsLeftBehind(data, 'buyers', run)).toEqual(['orders']);
  const open = (await data.query(`select title from anchor where knot_id = 'orders' and open`)) as { title: string }[];
  expect(open).toEqual([{ title: 'o1' }]);
  const { operations } = await orders.run();
  expect(operations.map(({ kind, member }) => [kind, member]).sort()).toEqual(
    ['a', 'b', 'c'].map((one) => ['archive', one]),
  );
  expect((await both.settle()).orders.operations).toEqual([]);
});

test('no record is told to refer to one that was deleted', async () => {
  const { data } = await database.fresh();
  const { orders, buyers } = (await bothServers(data, plain)).of;
  buyers.edit('a', '7', 'key', 'k');
  buyers.edit('b', '8', 'key', 'k');
  for (const member of ['a', 'b']) orders.edit(member, '1', 'key', 'o');
  await buyers.run();
  await orders.run();
  buyers.delete('b', '8');
  await buyers.run();
  orders.edit('a', '1', 'ref', '7');
  await orders.run();
  expect(orders.records.get('b')?.get(recordKey('1'))?.fields.ref).toBeUndefined();
  expect(await waitingIn(data)).toEqual([expect.objectContaining({ by: { member: 'b' }, value: null })]);
});
