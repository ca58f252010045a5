/**
 * The histories of things that stand under each other, on the server's runs with PostgreSQL. `SERVER_HISTORIES` says
 * how many.
 */
import fc from 'fast-check';
import { howMany, Play, treeBeginning, treeHistories, treeKnot, treeRules } from '@anchor-knot/core/testing';
import { PlayedServer } from '../testing/playedServer.js';
import { TestDatabase } from '../testing/testDatabase.js';

const histories = howMany(process.env.SERVER_HISTORIES, 20);
let database: TestDatabase;
beforeAll(async () => {
  database = await TestDatabase.start();
});
afterAll(async () => {
  await database.stop();
});

test('nothing is lost, never in a circle, made from the top, and quiet in the end', async () => {
  const seen = { levels: 0, held: 0, edits: 0 };
  const { data } = await database.fresh();
  await fc.assert(
    fc.asyncProperty(treeRules, treeHistories, async (rule, history) => {
      await data.query('truncate knot cascade');
      const knot = treeKnot(rule);
      const play = new Play(await PlayedServer.begin(data, knot), [knot]);
      await play.play([...treeBeginning, ...history]);
      for (let round = 0; round < 3; round += 1) await play.run();
      const { operations, held } = await play.run();
      expect(operations).toEqual([]);
      expect(play.faults).toEqual([]);
      const { counts } = play.ledger;
      seen.edits += counts.agreed + counts.lost + counts.held;
      for (const { reason } of held) if (reason.includes('it would stand under itself')) seen.held += 1;
      for (const { agreed } of play.installation.anchors.values())
        if (typeof agreed.parent?.value === 'string') seen.levels += 1;
    }),
    histories,
  );
  for (const [what, count] of Object.entries(seen)) expect([what, count > 0]).toEqual([what, true]);
}, 3_600_000);
