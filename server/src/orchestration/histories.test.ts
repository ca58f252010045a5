/** The histories of the laws, on the server's runs with PostgreSQL. `SERVER_HISTORIES` says how many. */
import fc from 'fast-check';
import { howMany, lawHistories, lawVersions, Play } from '@anchor-knot/core/testing';
import { PlayedServer } from '../testing/playedServer.js';
import { TestDatabase } from '../testing/testDatabase.js';

const histories = howMany(process.env.SERVER_HISTORIES, 40);
let database: TestDatabase;
beforeAll(async () => {
  database = await TestDatabase.start();
});
afterAll(async () => {
  await database.stop();
});

test('nothing is lost, nothing is made up, what a person said holds, and every record is in one list', async () => {
  let [writes, edits] = [0, 0];
  const { data } = await database.fresh();
  await fc.assert(
    fc.asyncProperty(lawVersions, lawHistories, async (versions, history) => {
      await data.query('truncate knot cascade');
      const play = await new Play(await PlayedServer.begin(data, versions[0]), versions).play(history);
      for (let run = 0; run < 2; run += 1) writes += (await play.run()).operations.length;
      expect(play.faults).toEqual([]);
      const { counts } = play.ledger;
      edits += counts.agreed + counts.combined + counts.lost + counts.held;
    }),
    histories,
  );
  expect(writes).toBeGreaterThan(0);
  expect(edits).toBeGreaterThan(histories.numRuns);
}, 3_600_000);
