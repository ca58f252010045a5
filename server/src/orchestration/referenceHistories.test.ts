/**
 * The histories of two knots that refer to each other, on the server’s runs with PostgreSQL. `SERVER_HISTORIES` says
 * how many.
 */
import fc from 'fast-check';
import {
  Both,
  howMany,
  referenceChoices,
  type ReferenceChoices,
  referenceHistories,
  referringKnot,
} from '@anchor-knot/core/testing';
import { recordKey } from '@anchor-knot/core';
import type { DataSource } from 'typeorm';
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

test('no record is told to refer to one that was deleted', async () => {
  const { data } = await database.fresh();
  const { orders, buyers } = (
    await bothServers(data, {
      rule: 'ask',
      directions: ['both ways', 'both ways', 'both ways'],
      notFound: 'wait',
      lastByValue: true,
      isRequired: false,
      oneHasLeft: false,
    })
  ).of;
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
