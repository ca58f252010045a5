/**
 * Running numbers on the server’s runs with PostgreSQL: never one twice, with several workers at once, after a crash,
 * and whatever is edited, refused or lost. `SERVER_HISTORIES` says how many histories.
 */
import fc from 'fast-check';
import { type Anchor, type AnchorId, anchorId, keyOf, recordKey, type Series } from '@anchor-knot/core';
import { howMany, numbered, numberHistories, Play } from '@anchor-knot/core/testing';
import type { DataSource } from 'typeorm';
import { v7 as uuid } from 'uuid';
import { PostgresStore } from '../persistence/postgresStore.js';
import { PlayedServer } from '../testing/playedServer.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { LeaseLost, type RunLease } from './lease.js';
import type { PlanEntry } from './stored.js';

const histories = howMany(process.env.SERVER_HISTORIES, 20);
let database: TestDatabase;
beforeAll(async () => {
  database = await TestDatabase.start();
});
afterAll(async () => {
  await database.stop();
});

const plain: Series = { name: 'Things', prefix: 'T', digits: 3, yearly: false, zone: 'Europe/London' };

async function withSeries(series = plain): Promise<{ data: DataSource; store: PostgresStore }> {
  const { data } = await database.fresh();
  await addSeries(data, series);
  return { data, store: new PostgresStore(data) };
}
const addSeries = (data: DataSource, series: Series) =>
  data.query(`insert into series (id, description, made_by, made_at) values ('things', $1, 'Maren', now())`, [
    JSON.stringify(series),
  ]);

interface Given {
  readonly text: string;
  readonly anchor_id: AnchorId;
  readonly isGiven: boolean;
}
const numbersIn = async (data: DataSource): Promise<readonly Given[]> =>
  (await data.query(
    `select text, anchor_id, given_at is not null as "isGiven" from series_number order by number`,
  )) as readonly Given[];

test('whatever happens, each thing has one number, and what is given stands at its thing', async () => {
  const seen = { given: 0, open: 0 };
  const { data } = await withSeries();
  await fc.assert(
    fc.asyncProperty(numberHistories, async (history) => {
      await data.query('truncate knot, series cascade');
      await addSeries(data, plain);
      const server = await PlayedServer.begin(data, numbered());
      const play = await new Play(server, [numbered()]).play(history);
      for (let round = 0; round < 3; round += 1) await play.run();
      expect((await play.run()).operations).toEqual([]);
      expect(play.faults).toEqual([]);
      const numbers = await numbersIn(data);
      const given = new Map(numbers.filter(({ isGiven }) => isGiven).map((one) => [one.anchor_id, one.text]));
      for (const { id, agreed } of server.anchors.values())
        if (agreed.f?.why.kind === 'number') expect([id, agreed.f.value]).toEqual([id, given.get(id)]);
      expect(new Set(numbers.map(({ text }) => text)).size).toBe(numbers.length);
      seen.given += given.size;
      seen.open += numbers.length - given.size;
    }),
    histories,
  );
  expect(seen.given).toBeGreaterThan(0);
}, 3_600_000);

async function begun(data: DataSource, store: PostgresStore, knot: string, now = Date.now()): Promise<RunLease> {
  await data.query(`insert into knot (id, name, version_in_force) values ($1, $1, 1) on conflict do nothing`, [knot]);
  const request = { run: uuid(), knot, knotVersion: 1, kind: 'run', startedBy: 'x', now, leaseMs: 1000 } as const;
  const run = await store.beginRun(request);
  if (!run) throw new Error('the knot is held');
  return run;
}
const things = (count: number): AnchorId[] => Array.from({ length: count }, () => anchorId(uuid()));
const want = (anchors: readonly AnchorId[], more: object = {}) => ({ series: 'things', field: 'f', anchors, ...more });

/** A thing as it is stored with its number. */
function numberedEntry(id: AnchorId, text: string, keys: PlanEntry['index'] = undefined): PlanEntry {
  const tie = { member: 'a', key: recordKey(id), seen: {}, ahead: {}, left: {} };
  const after: Anchor = { id, agreed: {}, ties: [tie], beganIn: ['a'], parkedCreates: {} };
  const nothing = { operations: [], withheld: [], problems: [], held: [], lost: [], decisions: [], tied: [] };
  const came = [{ member: 'a', key: tie.key }];
  return {
    ...{ anchor: id, revision: 0, title: text, after, ...nothing, came },
    numbers: [{ series: 'things', text }],
    index: keys ?? { keys: [], evidence: [] },
  };
}

test('workers that take numbers at once never get the same, and leave no gap', async () => {
  const { data, store } = await withSeries();
  const leases = await Promise.all(['one', 'two', 'three'].map((knot) => begun(data, store, knot)));
  const taken = await Promise.all(
    leases.flatMap((lease) => Array.from({ length: 8 }, () => store.takeNumbers(lease, want(things(5)), Date.now()))),
  );
  const texts = taken.flatMap((one) => [...one.values()]).sort();
  expect(texts).toEqual(Array.from({ length: 120 }, (_, place) => `T${String(place + 1).padStart(3, '0')}`));
});

test('what a worker took that died is taken again, and by then it can store nothing any more', async () => {
  const { data, store } = await withSeries();
  const now = Date.now();
  const dead = await begun(data, store, 'one', now);
  const [first, second] = things(2) as [AnchorId, AnchorId];
  const before = await store.takeNumbers(dead, want([first, second]), now);
  expect(await store.takeNumbers(dead, want([second]), now)).toEqual(new Map([[second, before.get(second)]]));
  await store.commitMerge(dead, [numberedEntry(first, before.get(first) ?? '')], [], [], now);
  // As long as nobody took its place it may go on.
  const other = await begun(data, store, 'two', now);
  const [third] = things(1) as [AnchorId];
  expect([...(await store.takeNumbers(other, want([third]), now)).values()]).toEqual(['T003']);
  const next = await begun(data, store, 'one', now + 10_000);
  const [fourth] = things(1) as [AnchorId];
  const again = await store.takeNumbers(next, want([fourth]), now + 10_000);
  expect([before.get(first), before.get(second), again.get(fourth)]).toEqual(['T001', 'T002', 'T002']);
  await expect(store.commitMerge(dead, [numberedEntry(second, 'T002')], [], [], now)).rejects.toThrow(LeaseLost);
  await store.commitMerge(next, [numberedEntry(fourth, 'T002')], [], [], now + 10_000);
  expect(await numbersIn(data)).toEqual([
    { text: 'T001', anchor_id: first, isGiven: true },
    { text: 'T002', anchor_id: fourth, isGiven: true },
    { text: 'T003', anchor_id: third, isGiven: false },
  ]);
});

test('a number that a system has given itself is passed over, also many; the last one ends the series', async () => {
  const { data, store } = await withSeries({ ...plain, digits: 2 });
  const lease = await begun(data, store, 'one');
  const rule = { place: 0, rule: { name: 'F', fields: [{ field: 'f', normalise: 'exact' as const }] } };
  const known = things(60).map((id, place) => {
    const text = `T${String(place + 1).padStart(2, '0')}`;
    return {
      ...numberedEntry(id, text, { keys: [[0, keyOf(rule.rule, new Map([['f', text]])) ?? '']], evidence: [] }),
      numbers: undefined,
    };
  });
  await store.commitMerge(lease, known, [], [], Date.now());
  const [one, ...rest] = things(41) as [AnchorId, ...AnchorId[]];
  const taken = await store.takeNumbers(lease, want([one], { rule }), Date.now());
  expect([...taken.values()]).toEqual(['T61']);
  const last = await store.takeNumbers(lease, want(rest, { rule }), Date.now());
  expect([last.size, [...last.values()].at(-1)]).toEqual([38, 'T99']);
  expect(await store.nextNumbers('things', 5, Date.now())).toEqual([]);
  expect(await store.nextNumbers('no such series', 5, Date.now())).toBeUndefined();
});

test('a series by year begins anew with each, where its zone says so', async () => {
  const { data, store } = await withSeries({ ...plain, yearly: true, zone: 'Pacific/Auckland' });
  const lease = await begun(data, store, 'one', Date.UTC(2026, 11, 31, 10));
  const take = async (at: number) => [...(await store.takeNumbers(lease, want(things(1)), at)).values()];
  expect(await take(Date.UTC(2026, 11, 31, 10, 59))).toEqual(['T2026-001']);
  expect(await take(Date.UTC(2026, 11, 31, 11))).toEqual(['T2027-001']);
  expect(await store.nextNumbers('things', 2, Date.UTC(2027, 5, 1))).toEqual(['T2027-002', 'T2027-003']);
});
