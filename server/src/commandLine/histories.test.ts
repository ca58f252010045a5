/** The histories of the laws, on the command line and its files. `FILE_HISTORIES` says how many. */
import fc from 'fast-check';
import { howMany, lawHistories, lawVersions, Play } from '@anchor-knot/core/testing';
import { PlayedFiles } from '../testing/playedFiles.js';

test('nothing is lost, nothing is made up, and every record is in one list', async () => {
  let edits = 0;
  await fc.assert(
    fc.asyncProperty(lawVersions, lawHistories, async (versions, history) => {
      const files = new PlayedFiles(versions[0]);
      try {
        const play = await new Play(files, versions).play(history);
        await play.run();
        expect(play.faults).toEqual([]);
        edits += play.ledger.counts.agreed;
      } finally {
        files.end();
      }
    }),
    { ...howMany(process.env.FILE_HISTORIES, 3), endOnFailure: true },
  );
  expect(edits).toBeGreaterThan(0);
}, 3_600_000);
