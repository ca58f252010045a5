/**
 * Nights in which clocks are put back or forward, machines sleep, and their clocks are corrected: every slot is done
 * once or counted as missed, however many look after them.
 */
import { slotsAfter, type Timing } from '@anchor-knot/core';
import { generateCustomers, seededRandom } from '@anchor-knot/standins';
import type { RunJob, RunQueue } from '../worker/jobs.js';
import { RealInstallation } from '../testing/realInstallation.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { Scheduler } from './scheduler.js';

const minute = 60_000;
const graceMs = 2 * minute;
const timing: Timing = {
  zone: 'Europe/London',
  regular: { kind: 'every', every: 20, unit: 'minutes' },
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['01:30', '02:30', '13:00'] },
  triggers: {},
};

let database: TestDatabase;
let installation: RealInstallation;
beforeAll(async () => {
  database = await TestDatabase.start();
  const data = generateCustomers({ seed: 5, inBoth: 1, onlyCrm: 0, onlyShop: 0, mess: false });
  installation = await RealInstallation.start(database, data);
  // Somebody has seen what it does.
  await installation.parts.data.query(
    `insert into run (id, knot_id, knot_version, kind, started_by, started_at, ended_at, state, token, lease_until)
     values (gen_random_uuid(), 'customers', 1, 'run', 'test', 'epoch', 'epoch', 'succeeded', 0, 'epoch')`,
  );
});
afterAll(async () => {
  await installation.stop();
  await database.stop();
});

/** What is sent, instead of a queue whose jobs are gathered. */
function recorder(sent: RunJob[]): RunQueue {
  return { send: async (job: RunJob) => `run ${sent.push(job)}` } as unknown as RunQueue;
}

test.each([
  ['put back', '2026-10-24T18:00:00Z', 1],
  ['put back', '2026-10-24T18:00:00Z', 2],
  ['put forward', '2026-03-28T18:00:00Z', 3],
  ['left alone', '2026-06-01T18:00:00Z', 4],
])('a night in which clocks are %s (from %s, history %i)', async (_, evening, seed) => {
  const { data, knots, timings } = installation.parts;
  const random = seededRandom(seed);
  const begin = Date.parse(evening);
  const definition = (await knots.inForce('customers'))?.definition;
  if (!definition) throw new Error('the knot is not in force');
  await data.query(`delete from run where state = 'missed'`);
  const { revision } = await timings.of('customers');
  await timings.keep(definition, revision, timing, 'test', begin);
  const sent: RunJob[] = [];
  const systems = { look: async () => 'cannot be looked at' as const };
  const schedulers = Array.from({ length: 3 }, () => new Scheduler(data, knots, timings, recorder(sent), systems));
  const looks: number[] = [];
  let now = begin;
  while (now < begin + 30 * 60 * minute) {
    const fate = random();
    // A machine that slept for hours, one whose clock was corrected, and otherwise a look every few minutes.
    now += fate < 0.04 ? random() * 300 * minute : fate < 0.08 ? -random() * 10 * minute : random() * 4 * minute;
    looks.push(now);
    const several = schedulers.slice(0, 1 + Math.floor(random() * 3));
    await Promise.all(several.map((scheduler) => scheduler.startDue({ now: () => now })));
  }
  const missed = (await data.query(`select words from run where state = 'missed'`)) as { words: string }[];
  const countMissed = missed.reduce((sum, { words }) => sum + (Number(/^(\d+) runs/.exec(words)?.[1]) || 1), 0);

  let expectedMissed = 0;
  for (const [schedule, full] of [
    [timing.regular, false],
    [timing.complete, true],
  ] as const) {
    const firstLooks = new Map<number, number>();
    for (const slot of slotsAfter(schedule as NonNullable<typeof schedule>, timing, begin)) {
      const look = looks.findIndex((moment) => moment >= slot);
      if (look < 0) break;
      firstLooks.set(slot, look);
    }
    expect(sent.filter((job) => job.full === full)).toHaveLength(new Set(firstLooks.values()).size);
    expectedMissed += [...firstLooks].filter(([slot, look]) => (looks[look] ?? 0) - slot > graceMs).length;
  }
  expect(countMissed).toBe(expectedMissed);
  expect(expectedMissed).toBeGreaterThan(0);
});
