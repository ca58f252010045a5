/** One suite for both stores: what the simulations rely on in memory holds in PostgreSQL too. */
import { type Anchor, anchorId, type Reading, recordKey } from '@anchor-knot/core';
import { InMemoryStore } from '../testing/inMemoryStore.js';
import { type BegunRun, LeaseLost, type RunLease, type TakenBatch } from '../orchestration/lease.js';
import type { Store } from '../orchestration/store.js';
import type {
  AnchorIndex,
  AnchorOutcome,
  IndexedRecord,
  Intent,
  Outcomes,
  PlanEntry,
  KnownList,
  RestingRecord,
} from '../orchestration/stored.js';
import { nothingDone, type PlanContext, type TakenUp } from '../orchestration/batch.js';
import type { DecisionDraft } from '../orchestration/decisionDraft.js';
import { type Fault, SimulatedInstallation } from '../testing/simulation.js';
import { simulationAbilities, simulationKnot } from '../testing/simulationKnot.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { serverMigrations } from './migrations.js';
import { PostgresStore } from './postgresStore.js';
import { withLease } from './tables/runs.js';

let database: TestDatabase;
beforeAll(async () => {
  database = await TestDatabase.start();
});
afterAll(async () => {
  await database.stop();
});

async function postgresStore(): Promise<PostgresStore> {
  const { data } = await database.fresh();
  await data.query(`insert into knot (id, name, version_in_force) values ('customers', 'Customers', 1)`);
  return new PostgresStore(data);
}

const id = (n: number): string => `00000000-0000-7000-9000-${String(n).padStart(12, '0')}`;
const request = (n: number, now: number) =>
  ({ run: id(n), knot: 'customers', knotVersion: 1, kind: 'run', startedBy: 'x', now, leaseMs: 1000 }) as const;
const reading = (fields: Reading['fields']): Reading => ({ fields });
const anchor = (n: number, ...keys: string[]): Anchor => ({
  id: anchorId(id(n)),
  agreed: {},
  beganIn: ['crm'],
  parkedCreates: {},
  ties: keys.map((key) => ({
    member: 'crm',
    key: recordKey(key),
    seen: { name: key, exact: { $number: '1.10' } },
    ahead: {},
    left: {},
  })),
});
const nothingKnown: PlanContext = {
  blocked: new Map(),
  unclear: new Map(),
  troubled: new Set(),
  partlyRead: new Set(),
};
const standingAt = (context: PlanContext): TakenUp => ({
  context,
  soFar: { begunAt: 0, ties: [['crm', 3]], planned: null },
});
const keyed = (...keys: [number, string][]): AnchorIndex => ({ keys, evidence: [] });
const entry = (of: Anchor, revision: number, more: Partial<PlanEntry> = {}): PlanEntry => ({
  anchor: of.id,
  revision,
  title: 'Title',
  after: of,
  operations: [],
  withheld: [],
  problems: [],
  held: [],
  lost: [],
  decisions: [],
  index: keyed(),
  came: of.ties.map(({ member, key }) => ({ member, key })),
  tied: [],
  ...more,
});
const operation = (of: Anchor) =>
  ({
    kind: 'update',
    anchor: of.id,
    member: 'crm',
    key: recordKey('k'),
    version: undefined,
    changes: [],
    fingerprint: '',
  }) as const;

const untied = (name: string, key: string): RestingRecord => ({
  member: 'crm',
  key: recordKey(name),
  reading: reading({ name }),
  keys: [[0, key]],
  blocks: [7],
  reason: 'untied',
  doubts: { anchors: [], records: [] },
});
const outcome = (revision: number, of: AnchorOutcome): Outcomes['anchors'][number] => ({
  revision,
  outcome: of,
  applyTo: () => of,
});

describe.each([
  ['memory', async (): Promise<Store> => new InMemoryStore()],
  ['PostgreSQL', postgresStore],
] as const)('the store in %s', (_, make) => {
  let store: Store;
  let lease: RunLease;
  beforeEach(async () => {
    store = await make();
    lease = (await store.beginRun(request(1, 0))) as RunLease;
  });

  test('gives a knot to one run at a time, and fences off a worker whose lease ran out', async () => {
    expect(await store.beginRun(request(2, 500))).toBeUndefined();
    await store.renewLease(lease, 900, 1000);
    expect(await store.beginRun(request(3, 1500))).toBeUndefined();
    const second = (await store.beginRun(request(4, 2000))) as RunLease;
    expect(second.token).toBeGreaterThan(lease.token);
    for (const late of [
      () => store.renewLease(lease, 2000, 1),
      () => store.saveProgress(lease, { phase: 'reading', done: 1, tally: {} }, 2000, 1),
      () => store.stage(lease, []),
      () => store.savePlan(lease, []),
      () => store.commitMerge(lease, [entry(anchor(5, 'a'), 0)], [], [], 0),
      () => store.recordOutcomes(lease, { anchors: [], writes: [], journal: [] }, 0),
    ]) {
      await expect(late()).rejects.toThrow(LeaseLost);
    }
    expect((await store.tieHeads('customers', 'crm', [recordKey('a')])).size).toBe(0);
  });

  test('forgets what a dead run staged and planned', async () => {
    await store.stage(lease, [
      { member: 'crm', key: recordKey('a'), anchor: undefined, matchKeys: ['k', null], reading: reading({}) },
    ]);
    await store.savePlan(lease, [entry(anchor(5, 'a'), 0)]);
    const next = (await store.beginRun(request(2, 5000))) as RunLease;
    const newcomers = [];
    for await (const batch of store.stagedNewcomers(next)) newcomers.push(...batch);
    expect([newcomers, await store.planned(next, {}, 10)]).toEqual([[], []]);
  });

  test('opens a phase in parts, each of which one worker at a time has, until it says what became of it', async () => {
    const context = {
      blocked: new Map([[anchorId(id(3)), new Set(['crm'])]]),
      unclear: new Map(),
      troubled: new Set(['shop']),
      partlyRead: new Set<string>(),
    };
    await store.savePlan(
      lease,
      [7, 3, 5, 4, 6].map((n) => entry(anchor(n, `${n}`), 0)),
    );
    await store.openBatches(lease, 'writing', standingAt(context), 2);
    const take = (now: number, leaseMs = 100) => store.takeBatch({ now, leaseMs });
    expect(await store.takeBatch({ except: [lease.run], now: 10, leaseMs: 100 })).toBeUndefined();
    const [first, second, third] = [await take(10), await take(10), await take(10, 900)] as TakenBatch[];
    expect(await take(10)).toBeUndefined();
    expect(first).toMatchObject({ phase: 'writing', context, knotVersion: 1, kind: 'run', isTakenOver: false });
    const plannedIn = async ({ lease: own, range }: TakenBatch) =>
      (await store.planned(own, range, 10)).map(({ anchor: one }) => one);
    const parts = await Promise.all([first, second, third].map((part) => plannedIn(part as TakenBatch)));
    expect(parts).toEqual([[id(3), id(4)], [id(5), id(6)], [id(7)]]);

    // The first worker is slow; the second keeps its part, and the third has time.
    await store.renewLease((second as TakenBatch).lease, 100, 500);
    const again = (await take(300)) as TakenBatch;
    expect([again.range, again.isTakenOver]).toEqual([first?.range, true]);
    const late = (first as TakenBatch).lease;
    for (const change of [
      () => store.renewLease(late, 300, 100),
      () => store.savePlan(late, []),
      () => store.endBatch(late, nothingDone),
    ])
      await expect(change()).rejects.toThrow(LeaseLost);

    await store.endBatch(again.lease, { ...nothingDone, done: 2 });
    await expect(store.savePlan(again.lease, [])).rejects.toThrow(LeaseLost);
    await store.giveBack((third as TakenBatch).lease);
    expect(await take(310)).toMatchObject({ range: third?.range, isTakenOver: true });
    expect(await store.batches(lease)).toEqual([{ ...nothingDone, done: 2 }, undefined, undefined]);

    // Nobody helps a run whose own worker says nothing any more. Who takes it up finds it where it stood.
    expect(await take(1500)).toBeUndefined();
    const onward = (await store.beginRun(request(1, 1500))) as BegunRun;
    expect(onward).toMatchObject({ run: lease.run, takenUp: standingAt(context) });
    for (const own of [lease, (second as TakenBatch).lease])
      await expect(store.savePlan(own, [])).rejects.toThrow(LeaseLost);
    expect(await store.batches(onward)).toEqual([{ ...nothingDone, done: 2 }, undefined, undefined]);
    expect(await take(1501)).toBeUndefined();
    await store.freeBatches(onward);
    expect([await take(1501), await take(1501), await take(1501)]).toMatchObject([
      { range: second?.range, isTakenOver: true },
      { range: third?.range },
      undefined,
    ]);
  });

  test('gives each part to one worker, however many there are', async () => {
    const numbers = Array.from({ length: 60 }, (_, n) => 100 + n);
    await store.savePlan(
      lease,
      numbers.map((n) => entry(anchor(n, `${n}`), 0)),
    );
    await store.openBatches(lease, 'writing', standingAt(nothingKnown), 2);
    const taken: number[] = [];
    const takeAll = async (): Promise<void> => {
      for (;;) {
        const part = await store.takeBatch({ now: 10, leaseMs: 100 });
        if (!part) return;
        taken.push(part.lease.batch?.place ?? -1);
      }
    };
    await Promise.all([takeAll(), takeAll(), takeAll()]);
    expect(taken.toSorted((a, b) => a - b)).toEqual(Array.from({ length: 30 }, (_, place) => place));
  });

  test('opens what is to be merged in parts, with what is open and what is new', async () => {
    const key = recordKey('n');
    await store.commitMerge(lease, [entry(anchor(8, 'o'), 0, { held: [{} as never] })], [], [], 0);
    await store.stage(lease, [
      { member: 'crm', key, anchor: undefined, matchKeys: [], reading: reading({}) },
      { member: 'crm', key: recordKey('t'), anchor: anchorId(id(2)), matchKeys: [], reading: reading({}) },
    ]);
    await store.assign(lease, [{ member: 'crm', key, anchor: anchorId(id(9)), why: undefined }]);
    await store.openBatches(lease, 'planning', standingAt(nothingKnown), 2);
    const parts = [await store.takeBatch({ now: 1, leaseMs: 9 }), await store.takeBatch({ now: 1, leaseMs: 9 })];
    const ids = await Promise.all(
      parts.map((part) => store.anchorsToMerge((part as TakenBatch).lease, (part as TakenBatch).range, 10)),
    );
    expect(ids).toEqual([[id(2), id(8)], [id(9)]]);
  });

  test('keeps the last of two readings of a record, and gives newcomers until they are assigned', async () => {
    const key = recordKey('a\u001f/ü"\'');
    await store.stage(lease, [
      { member: 'crm', key, anchor: undefined, matchKeys: ['k', null], reading: reading({ name: 'old' }) },
    ]);
    await store.stage(lease, [
      {
        member: 'crm',
        key,
        anchor: undefined,
        matchKeys: ['k', null],
        texts: ['Ada', null],
        reading: reading({ name: 'new' }),
      },
    ]);
    const newcomers = [];
    for await (const batch of store.stagedNewcomers(lease)) newcomers.push(...batch);
    expect(newcomers).toEqual([
      { member: 'crm', key, matchKeys: ['k', null], texts: ['Ada', null], isRejected: false },
    ]);
    expect(await store.stagedReadings(lease, [{ member: 'crm', key }])).toMatchObject([
      { key, reading: { fields: { name: 'new' } } },
    ]);
    await store.assign(lease, [
      { member: 'crm', key, anchor: anchorId(id(9)), why: { kind: 'key rule', rule: 'Email' } },
    ]);
    expect(await store.anchorsToMerge(lease, {}, 10)).toEqual([id(9)]);
    expect((await store.stagedFor(lease, [anchorId(id(9))])).get(anchorId(id(9)))).toMatchObject([
      { key, why: { kind: 'key rule', rule: 'Email' } },
    ]);
  });

  test('knows which values of a unique check are repeated, of records that are there', async () => {
    const stage = (key: string, value: string | undefined, check = 'mail') =>
      store.stage(lease, [
        {
          member: 'crm',
          key: recordKey(key),
          anchor: undefined,
          matchKeys: [],
          reading: reading({}),
          unique: [{ check, value }],
        },
      ]);
    await stage('a', 'x');
    await stage('b', 'x');
    await stage('c', 'y');
    await stage('d', undefined);
    await stage('c', 'x', 'other');
    const repeated = async () =>
      (await store.repeatedValues(lease, ['mail', 'other'])).map(({ check, key, isStaged }) => [check, key, isStaged]);
    expect(await repeated()).toEqual([
      ['mail', 'a', true],
      ['mail', 'b', true],
    ]);
    await stage('b', 'z');
    expect(await repeated()).toEqual([]);
    // What an earlier run saw still counts, as long as the record is tied.
    await store.commitMerge(lease, [entry(anchor(5, 'a'), 0)], [], [], 0);
    lease = (await store.beginRun(request(2, 5000))) as RunLease;
    await stage('e', 'x');
    expect(await repeated()).toEqual([
      ['mail', 'a', false],
      ['mail', 'e', true],
    ]);
    // Also where nothing of it was read again: those that are rejected for it stay so.
    const rejecting = (of: Anchor): Anchor => ({ ...of, ties: of.ties.map((tie) => ({ ...tie, rejected: ['no'] })) });
    await store.commitMerge(
      lease,
      [entry(rejecting(anchor(5, 'a')), 1), entry(rejecting(anchor(6, 'e')), 0)],
      [],
      [],
      0,
    );
    lease = (await store.beginRun(request(3, 500_000))) as RunLease;
    expect(await repeated()).toEqual([
      ['mail', 'a', false],
      ['mail', 'e', false],
    ]);
    await store.markGone(lease, 'crm', [recordKey('a')], 0);
    expect(await repeated()).toEqual([]);
  });

  test('changes a staged reading alone, and lists the ties of rejected records', async () => {
    const ref = { member: 'crm', key: recordKey('a') };
    await store.stage(lease, [{ ...ref, anchor: undefined, matchKeys: ['k'], reading: reading({ name: 'x' }) }]);
    await store.changeReadings(lease, [{ ...ref, reading: { ...reading({ name: 'x' }), rejected: ['no'] } }]);
    for await (const batch of store.stagedNewcomers(lease))
      expect(batch).toEqual([{ ...ref, matchKeys: ['k'], texts: [], isRejected: true }]);
    const [one, other] = [anchor(5, 'a'), anchor(6, 'b')];
    const rejected = { ...one, ties: one.ties.map((tie) => ({ ...tie, rejected: ['no'] })) };
    await store.commitMerge(lease, [entry(rejected, 0), entry(other, 0)], [], [], 0);
    expect(await store.rejectedTies(lease)).toEqual([ref]);
  });

  test('remembers how a tie ended, and tells what we archived from what is gone', async () => {
    const of = anchor(5, 'a', 'b');
    const ended = { ...of, ties: [{ ...of.ties[0], gone: true, end: 'archived' } as never] };
    await store.commitMerge(lease, [entry(ended, 0)], [], [], 0);
    expect((await store.loadAnchors(lease, [of.id])).get(of.id)?.anchor.ties[0]).toMatchObject({
      gone: true,
      end: 'archived',
    });
    expect((await store.tieHeads('customers', 'crm', [recordKey('a')])).get(recordKey('a'))).toMatchObject({
      gone: true,
      archived: true,
    });
  });

  test('commits a merge only over the revision that was planned from, with its intents, and only whole', async () => {
    const [one, other] = [anchor(5, 'a'), anchor(6, 'b')];
    const intents: Intent[] = [
      { id: id(50), operation: operation(one), storedAt: 0 },
      { id: id(60), operation: operation(other), storedAt: 0 },
    ];
    expect(
      await store.commitMerge(lease, [entry(one, 0, { index: keyed([0, 'mail']) }), entry(other, 3)], intents, [], 0),
    ).toEqual([one.id]);
    expect((await store.openIntents('customers')).map(({ id: of }) => of)).toEqual([id(50)]);
    expect(
      await store.anchorsWithKeys('customers', [
        [0, 'mail'],
        [1, 'mail'],
      ]),
    ).toEqual([{ rule: 0, key: 'mail', anchor: one.id }]);
    const stored = (await store.loadAnchors(lease, [one.id, other.id])).get(one.id);
    expect(stored).toMatchObject({ revision: 1, anchor: one });
    const clash = { ...anchor(7, 'x'), ties: [{ ...anchor(7, 'x').ties[0], seen: undefined as never }] } as Anchor;
    if (!(store instanceof PostgresStore)) return;
    await expect(store.commitMerge(lease, [entry(anchor(8, 'y'), 0), entry(clash, 0)], [], [], 0)).rejects.toThrow();
    expect((await store.tieHeads('customers', 'crm', [recordKey('y')])).size).toBe(0);
  });

  test('knows what refers to a thing as long as it is there, and what things are called', async () => {
    const [thing, first, second] = [anchor(5, 'a'), anchor(6, 'b'), anchor(7, 'c')];
    const named: Anchor = {
      ...thing,
      agreed: {
        name: { value: 'Osprey', by: { kind: 'person', name: 'Vera' }, at: 0, why: { kind: 'edit', members: [] } },
      },
    };
    const refers = (field: string, to = thing): AnchorIndex => ({
      ...keyed(),
      references: [{ field, anchor: to.id }],
    });
    await store.commitMerge(
      lease,
      [entry(named, 0), entry(first, 0, { index: refers('owner') }), entry(second, 0, { index: refers('buyer') })],
      [],
      [],
      0,
    );
    expect([...(await store.referringCounts([thing.id, first.id]))]).toEqual([[thing.id, 2]]);
    expect([...(await store.agreedTexts('customers', 'name', [thing.id, first.id]))]).toEqual([[thing.id, 'Osprey']]);
    // One is gone, and the other refers to something else by now.
    await store.markGone(lease, 'crm', [recordKey('b')], 0);
    expect([...(await store.referringCounts([thing.id]))]).toEqual([[thing.id, 1]]);
    const stored = (await store.loadAnchors(lease, [second.id])).get(second.id);
    await store.commitMerge(
      lease,
      [entry(second, stored?.revision ?? 0, { index: refers('buyer', first), came: [] })],
      [],
      [],
      0,
    );
    expect([...(await store.referringCounts([thing.id]))]).toEqual([]);
    expect([...(await store.redirects([thing.id]))]).toEqual([]);
  });

  test('gives an outcome that comes late to the anchor as it is now, and never moves a tie', async () => {
    const one = anchor(5, 'a');
    await store.commitMerge(lease, [entry(one, 0)], [], [], 0);
    // Somebody changes the anchor while its write is under way.
    const title = { agreed: { name: { value: 'chosen', by: { kind: 'person', name: 'Vera' }, at: 1 } } } as never;
    await store.commitMerge(lease, [entry({ ...one, ...(title as object) }, 1, { came: [] })], [], [], 0);
    const stale = { anchor: one, open: false, decisions: [], index: keyed(), title: 'stale' };
    await store.recordOutcomes(
      lease,
      {
        anchors: [{ ...outcome(1, stale), applyTo: (current) => ({ ...stale, anchor: current, title: 'late' }) }],
        writes: [],
        journal: [],
      },
      0,
    );
    expect((await store.loadAnchors(lease, [one.id])).get(one.id)).toMatchObject({
      revision: 3,
      anchor: { agreed: { name: { value: 'chosen' } } },
    });
    // A record that was tied meanwhile comes to no other anchor.
    if (!(store instanceof PostgresStore)) return;
    expect(await store.commitMerge(lease, [entry(anchor(6, 'a'), 0)], [], [], 0)).toEqual([]);
    await expect(store.commitMerge(lease, [entry(anchor(7, 'a'), 0, { came: [] })], [], [], 0)).rejects.toThrow(
      'another anchor',
    );
  });

  test('keeps what a person put outside while a run was on, and counts each record in one list', async () => {
    const acts = await store.actsOf('customers');
    await store.letRest(lease, 1, acts, [untied('known', 'k'), untied('put', 'p')]);
    await store.commitMerge(lease, [entry(anchor(5, 'a'), 0), entry(anchor(6, 'b'), 0)], [], [], 0);
    await store.noteFiltered(lease, 'crm', [
      { key: recordKey('f'), title: 'F' },
      { key: recordKey('g'), title: 'G' },
    ]);
    await store.noteFiltered(lease, 'crm', [{ key: recordKey('f'), title: 'F' }]);
    await store.noteListed(lease, 'crm', [recordKey('known'), recordKey('known')]);
    const unlisted = (list: KnownList, after?: string) =>
      store.unlisted(lease, 'crm', list, after === undefined ? after : recordKey(after), 1);
    expect([await unlisted('filtered'), await unlisted('filtered', 'f')]).toEqual([['f'], ['g']]);
    expect([await unlisted('outside'), await unlisted('outside', 'put')]).toEqual([['put'], []]);
    await store.forgetFiltered(lease, 'crm', [recordKey('g')]);
    // This run knew of one of the two; it is tied now.
    await store.saveOutside(
      lease,
      { known: [{ member: 'crm', key: recordKey('known') }], staying: [], decisions: [], version: 1 },
      0,
    );
    expect((await store.outside('customers')).map(({ key }) => key)).toEqual(['put']);
    expect((await store.accounts('customers')).get('crm')).toEqual({
      tied: 2,
      waiting: 0,
      rejected: 0,
      aside: 0,
      untied: 1,
      filtered: 1,
    });
  });

  test('lets untied records rest unless a person acted since, until something like them is stored', async () => {
    const acts = await store.actsOf('customers');
    await store.letRest(lease, 1, acts - 1, [untied('late', 'x')]);
    await store.letRest(lease, 1, acts, [untied('a', 'x'), untied('b', 'y')]);
    expect((await store.accounts('customers')).get('crm')?.untied).toBe(3);
    expect((await store.outside('customers', 1)).map(({ key }) => key)).toEqual(['late']);
    expect((await store.outside('customers', 2)).map(({ key }) => key).sort()).toEqual(['a', 'b', 'late']);
    const like = async (keys: [number, string][], blocks: { block: number; limit: number }[]) =>
      (await store.restingLike('customers', { keys, blocks, records: [] })).map(({ key }) => key).sort();
    expect(await like([[0, 'y']], [])).toEqual(['b']);
    expect(await like([[1, 'y']], [{ block: 7, limit: 2 }])).toEqual(['a', 'b']);
    await store.commitMerge(lease, [entry(anchor(5, 'k'), 0, { index: keyed([0, 'x']) })], [], [], 0);
    expect((await store.outside('customers', 1)).map(({ key }) => key).sort()).toEqual(['a', 'late']);
    await store.noteLeft(lease, [{ member: 'crm', key: recordKey('b') }]);
    expect((await store.outside('customers', 1)).map(({ key }) => key).sort()).toEqual(['a', 'b', 'late']);
  });

  test('a doubt keeps from creating also when its record was woken in this run, until that has left', async () => {
    const acts = await store.actsOf('customers');
    const waits: RestingRecord = {
      ...untied('w', 'x'),
      reason: 'waiting',
      doubts: { anchors: [anchorId(id(7))], records: [] },
    };
    await store.letRest(lease, 1, acts, [waits]);
    const blocked = async () => [...((await store.blockedByResting(lease, [anchorId(id(7))])).values() ?? [])];
    expect(await blocked()).toEqual([new Set(['crm'])]);
    // Another anchor comes to have its key.
    await store.commitMerge(lease, [entry(anchor(5, 'a'), 0, { index: keyed([0, 'x']) })], [], [], 0);
    expect(await blocked()).toEqual([new Set(['crm'])]);
    await store.noteLeft(lease, [waits]);
    expect(await blocked()).toEqual([]);
  });

  test('lists what is open again, until an outcome closes it, and moves keys along', async () => {
    const one = anchor(5, 'a');
    await store.commitMerge(
      lease,
      [entry(one, 0, { operations: [operation(one)], index: keyed([0, 'old']) })],
      [{ id: id(50), operation: operation(one), storedAt: 0 }],
      [],
      0,
    );
    expect(await store.anchorsToMerge(lease, {}, 10)).toEqual([one.id]);
    await store.recordOutcomes(
      lease,
      {
        anchors: [outcome(1, { anchor: one, open: false, decisions: [], index: keyed([0, 'new']), title: 'T' })],
        writes: [{ intent: id(50), operation: operation(one), state: 'written' }],
        journal: [],
      },
      0,
    );
    expect(await store.anchorsToMerge(lease, {}, 10)).toEqual([]);
    expect(await store.openIntents('customers')).toEqual([]);
    expect(
      (
        await store.anchorsWithKeys('customers', [
          [0, 'old'],
          [0, 'new'],
        ])
      ).map(({ key }) => key),
    ).toEqual(['new']);
  });

  test(
    'finds by what they share the records of anchors, each with the others of its anchor, and no further ' +
      'than the limit',
    async () => {
      const [one, other] = [anchor(5, 'a'), anchor(6, 'c')];
      const indexed = (key: string, blocks: number[]): IndexedRecord => ({
        member: 'crm',
        key: recordKey(key),
        texts: [key, null],
        blocks,
      });
      const index = (...evidence: IndexedRecord[]): AnchorIndex => ({ keys: [], evidence });
      const far = 2 ** 40;
      await store.commitMerge(
        lease,
        [
          entry(one, 0, { index: index(indexed('a', [1, far]), indexed('b', [2])) }),
          entry(other, 0, { index: index(indexed('c', [1, 3])) }),
        ],
        [],
        [],
        0,
      );
      const find = async (...newcomers: { block: number; limit: number }[][]) => {
        const { records, found } = await store.evidenceCandidates('customers', newcomers);
        return [
          records.map(({ key, anchor: of, texts }) => [key, of, texts[0]]).sort(),
          found.map((places) => places.map((place) => records[place]?.key).sort()),
        ];
      };
      const [a, b, c] = [
        ['a', one.id, 'a'],
        ['b', one.id, 'b'],
        ['c', other.id, 'c'],
      ];
      expect(await find([{ block: far, limit: 9 }], [], [{ block: 3, limit: 9 }])).toEqual([
        [a, b, c],
        [['a'], [], ['c']],
      ]);
      expect(
        await find([
          { block: 1, limit: 1 },
          { block: 2, limit: 1 },
        ]),
      ).toEqual([[a, b], [['b']]]);
      expect(await find([{ block: 1, limit: 2 }])).toEqual([[a, b, c], [['a', 'c']]]);
      expect(await find([{ block: 77, limit: 9 }])).toEqual([[], [[]]]);
      if (store instanceof PostgresStore)
        expect((await store.evidenceCandidates('tickets', [[{ block: 3, limit: 9 }]])).records).toEqual([]);
      await store.saveIndex(lease, [{ anchor: one.id, index: index(indexed('a', [8])) }]);
      expect(await find([{ block: 1, limit: 9 }], [{ block: 2, limit: 9 }], [{ block: 8, limit: 9 }])).toEqual([
        [a, c],
        [['c'], [], ['a']],
      ]);
    },
  );

  test('remembers of what definition its index is, and walks all anchors in order', async () => {
    expect(await store.indexedAs('customers')).toBeUndefined();
    await store.markIndexed(lease, 'one');
    await store.markIndexed(lease, 'two');
    expect(await store.indexedAs('customers')).toBe('two');
    await store.commitMerge(
      lease,
      [entry(anchor(6, 'b'), 0), entry(anchor(5, 'a'), 0), entry(anchor(7, 'c'), 0)],
      [],
      [],
      0,
    );
    expect(await store.anchorIds('customers', undefined, 2)).toEqual([id(5), id(6)]);
    expect(await store.anchorIds('customers', anchorId(id(6)), 2)).toEqual([id(7)]);
  });

  test('marks ties as gone, counts the others, and keeps unclear intents', async () => {
    await store.commitMerge(
      lease,
      [entry(anchor(5, 'a'), 0), entry(anchor(6, 'b'), 0)],
      [{ id: id(50), operation: operation(anchor(5, 'a')), storedAt: 0 }],
      [],
      0,
    );
    await store.markGone(lease, 'crm', [recordKey('a')], 0);
    await store.markUnclear(lease, [id(50)]);
    expect((await store.tieCounts('customers')).get('crm')).toBe(1);
    expect(await store.unlisted(lease, 'crm', 'tied', undefined, 10)).toEqual(['b']);
    expect((await store.tieHeads('customers', 'crm', [recordKey('a')])).get(recordKey('a'))).toMatchObject({
      gone: true,
    });
    expect(await store.openIntents('customers')).toMatchObject([{ unclear: true }]);
  });

  test('keeps records outside and cursors from run to run', async () => {
    const draft: DecisionDraft = {
      kind: 'duplicate',
      member: 'crm',
      key: recordKey('d'),
      says: 'x',
      detail: { value: null, rule: null, keys: ['d'], tiedKey: null, scores: [] },
      fingerprint: 'f',
    };
    const put = { member: 'crm', key: recordKey('d'), reading: reading({ name: 'ü' }), reason: 'waiting' } as const;
    await store.saveOutside(
      lease,
      { known: [], staying: [{ ...put, verdict: 'aside' }], decisions: [draft], version: 1 },
      0,
    );
    const progress = { phase: 'done', done: 0, tally: {} } as const;
    await store.endRun(
      lease,
      {
        state: 'succeeded',
        progress,
        troubles: [],
        guards: [],
        tryAgain: [],
        readWell: [],
        readByName: [],
        changed: new Map(),
        now: 10,
      },
      new Map([['crm', { changedSince: 5, listedAt: 6, readAt: 7, knotVersion: 1 }]]),
    );
    expect(await store.outside('customers')).toEqual([
      { member: 'crm', key: 'd', reading: { fields: { name: 'ü' } }, reason: 'waiting', verdict: 'aside' },
    ]);
    expect((await store.cursors('customers')).get('crm')).toEqual({
      changedSince: 5,
      listedAt: 6,
      readAt: 7,
      knotVersion: 1,
    });
    expect(await store.beginRun(request(2, 11))).toBeDefined();
  });
});

test('a run is taken over only after what its worker is doing; the lease is renewed meanwhile', async () => {
  const { data } = await database.fresh();
  await data.query(`insert into knot (id, name, version_in_force) values ('customers', 'Customers', 1)`);
  const store = new PostgresStore(data);
  const lease = (await store.beginRun(request(1, 0))) as RunLease;
  const order: string[] = [];
  let goOn = (): void => undefined;
  const gate = new Promise<void>((go) => (goOn = go));
  let working: Promise<void> = Promise.resolve();
  await new Promise<void>((begun) => {
    working = withLease(data, lease, async () => {
      begun();
      await gate;
      order.push('worked');
    });
  });
  await store.renewLease(lease, 100, 1000);
  await store.saveProgress(lease, { phase: 'reading', done: 1, tally: {} }, 100, 1000);
  const takingOver = store.beginRun(request(2, 5000)).then(() => order.push('taken over'));
  await new Promise((go) => setTimeout(go, 300));
  goOn();
  await Promise.all([working, takingOver]);
  expect(order).toEqual(['worked', 'taken over']);
  await expect(withLease(data, lease, async () => undefined)).rejects.toThrow(LeaseLost);
});

test.each<Fault>(['fails after', 'worker dies before', 'worker dies after'])(
  'a whole installation on PostgreSQL comes right after a fault: %s',
  async (fault) => {
    for (const at of [9, 17, 23, 31, 38, 45]) {
      const store = await postgresStore();
      const world = new SimulatedInstallation(simulationKnot, store, simulationAbilities);
      world.settleMs = 60;
      for (const member of ['crm', 'shop', 'list']) {
        world.system(member).edit(`${member}1`, 'email', 'one@marram.example');
        world.system(member).edit(`${member}1`, 'name', `Name from ${member}`);
      }
      world.system('crm').edit('crm2', 'email', 'two@marram.example');
      world.faults.at = at;
      world.faults.fault = fault;
      await world.run().catch(() => undefined);
      world.faults.at = undefined;
      await world.run();
      expect(await world.run()).toMatchObject({
        result: {
          state: 'succeeded',
          progress: {
            tally: { crm: { create: 0, update: 0 }, shop: { create: 0, update: 0 }, list: { create: 0, update: 0 } },
          },
        },
      });
      expect(['crm', 'shop', 'list'].map((member) => world.system(member).records.size)).toEqual([2, 2, 2]);
      expect(await store.openIntents('customers')).toEqual([]);
    }
  },
);

test('migrations are applied in the order of their times, and every table they make can be taken back', async () => {
  const times = serverMigrations.map(({ name }) => Number(name.slice(-13)));
  expect(times).toEqual(times.toSorted((a, b) => a - b));
  const { data } = await database.fresh();
  for (const _ of serverMigrations) await data.undoLastMigration();
  expect(
    await data.query(`select tablename from pg_tables where schemaname = 'public' and tablename not in ('migrations')`),
  ).toEqual([]);
});

test('pages of records of a system that was connected before are kept, and its objects in their order', async () => {
  const { data } = await database.fresh();
  const system = async (): Promise<unknown> => (await data.query(`select * from system`))[0];
  const later = serverMigrations.filter(({ name }) => Number(name.slice(-13)) >= 1764940000000).length;
  for (let count = 0; count < later; count += 1) await data.undoLastMigration();
  const description = { kind: 'sql', name: 'ERP', objects: { zinc: { key: 'id' }, alum: { key: 'no' } } };
  await data.query(`insert into system (id, name, description, pennant, page_address) values ($1, $1, $2, '{}', $3)`, [
    'erp',
    JSON.stringify(description),
    'http://erp.example',
  ]);
  await data.runMigrations();
  const migrated = (await system()) as { description: typeof description };
  expect(migrated.description).toEqual({
    ...description,
    page: 'http://erp.example',
    objects: {
      zinc: { key: 'id', recordPage: '/records/{key}' },
      alum: { key: 'no', recordPage: '/records/{key}' },
    },
  });
  expect(Object.keys(migrated.description.objects)).toEqual(['zinc', 'alum']);
  for (let count = 0; count < later; count += 1) await data.undoLastMigration();
  expect(await system()).toMatchObject({ description, page_address: 'http://erp.example' });
});
