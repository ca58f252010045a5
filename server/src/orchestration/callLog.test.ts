/** Calls of systems are counted and timed, and are otherwise what they were. */
import { type Clock, type Connector, type Page, SystemTrouble } from '@anchor-knot/connectors';
import { recordKey } from '@anchor-knot/core';
import { CallLog } from './callLog.js';

let now = 0;
const clock: Clock = { now: () => now, sleep: () => Promise.resolve() };
const page = (key: string): Page => ({ records: [{ key: recordKey(key), fields: {} }], unusable: [] }) as never;

function connector(more: Partial<Connector> = {}) {
  const closed: string[] = [];
  const made = {
    capabilities: { batchSize: 7 },
    async *read() {
      try {
        for (const key of ['a', 'b', 'c']) {
          now += 100;
          yield page(key);
        }
      } finally {
        closed.push('reading');
      }
    },
    readOne: async (key: string) => ((now += 30), { key, fields: {} }),
    write: async () => {
      now += 500;
      throw new SystemTrouble('unreachable', 'nobody answers', '');
    },
    clockOffset: () => 42,
    close: async () => void closed.push('connector'),
    ...more,
  } as unknown as Connector;
  return { made, closed };
}

test('pages, records and failing writes are counted with the time that they took', async () => {
  const log = new CallLog(clock);
  const measured = log.measured('crm', connector().made);
  const keys: string[] = [];
  for await (const { records } of measured.read({})) {
    keys.push(...records.map(({ key }) => key));
    // What is done with a page is not the time of the call.
    now += 10_000;
  }
  expect(keys).toEqual(['a', 'b', 'c']);
  for (const key of ['x', 'y']) await measured.readOne(recordKey(key));
  await expect(measured.write([])).rejects.toThrow('nobody answers');
  expect(log.snapshot()).toEqual({
    crm: {
      page: { count: 3, failed: 0, ms: 300, longestMs: 100 },
      record: { count: 2, failed: 0, ms: 60, longestMs: 30 },
      write: { count: 1, failed: 1, ms: 500, longestMs: 500 },
    },
  });
});

test('who leaves a listing in the middle ends it there; what a system can do is as it says', async () => {
  const { made, closed } = connector();
  const measured = new CallLog(clock).measured('crm', made);
  for await (const { records } of measured.read({})) if (records.length > 0) break;
  expect(closed).toEqual(['reading']);
  expect([measured.capabilities.batchSize, measured.clockOffset(), measured.rights, measured.createField]).toEqual([
    7,
    42,
    undefined,
    undefined,
  ]);
  await measured.close();
  expect(closed).toEqual(['reading', 'connector']);
});
