/**
 * Untied and waiting records that rest: a run does not look at them again, and no history shows a difference. Two
 * installations play the same one; in the other nothing ever rests.
 */
import fc from 'fast-check';
import {
  type Anchor,
  type AnchorId,
  type CompiledKnot,
  compileKnot,
  type Knot,
  recordId,
  recordKey,
  type Verdict,
} from '@anchor-knot/core';
import { howMany } from '@anchor-knot/core/testing';
import type { DataSource } from 'typeorm';
import { PostgresStore } from '../persistence/postgresStore.js';
import { setAside } from '../persistence/tables/recordLists.js';
import { hashKey } from '../persistence/tables/hashKey.js';
import { saveVerdicts } from '../persistence/tables/verdicts.js';
import { InMemoryStore } from '../testing/inMemoryStore.js';
import { SimulatedInstallation } from '../testing/simulation.js';
import { simulationAbilities, simulationKnot } from '../testing/simulationKnot.js';
import { storedState } from '../testing/storedState.js';
import { TestDatabase } from '../testing/testDatabase.js';
import { decisionIdentity } from './decisionDraft.js';
import type { MemberAccount } from './runResult.js';
import { indexOfAnchors } from './indexAnchors.js';
import type { RunLease } from './lease.js';
import type { Store } from './store.js';
import type { AnchorIndex, OutsideRecord, RecordRef, RestingRecord, StagedRecord } from './stored.js';

const members = ['crm', 'shop', 'list'] as const;
type Member = (typeof members)[number];

/** Only the CRM may begin a thing; emails and names are keys, and names weigh too. */
const knot: Knot = {
  ...simulationKnot,
  members: simulationKnot.members.map((member) => ({
    ...member,
    startsAnchors: member.id === 'crm',
    may: { create: member.id === 'list', update: true },
  })),
  checks: [
    { id: 'limits', says: 'the limit is another’s', unique: 'limit', members: ['shop'], onFail: 'reject' },
    { id: 'names', says: 'the name is wrong', formula: 'name != "Ospray"', onFail: 'reject' },
  ],
  keyRules: [
    { name: 'Email', fields: [{ field: 'email', normalise: 'email' }] },
    {
      name: 'Name and limit',
      fields: [
        { field: 'name', normalise: 'text' },
        { field: 'limit', normalise: 'exact' },
      ],
    },
  ],
  evidence: {
    fields: [{ name: 'Name', fields: ['name'], compare: 'text' }],
    thresholds: { upper: 5, lower: -2 },
    weights: {
      prior: 1 / 257,
      fields: [{ m: [0.001, 0.1, 0.3, 0.6], u: [0.99, 0.0004, 0.0012, 2.3e-6], common: {}, rare: -1870 }],
    },
  },
};

const compiled = (compileKnot(knot) as { readonly knot: CompiledKnot }).knot;

class Counting extends InMemoryStore {
  staged = 0;
  rested = 0;
  override async stage(lease: RunLease, records: readonly StagedRecord[]): Promise<void> {
    this.staged += records.length;
    return super.stage(lease, records);
  }
  override async letRest(lease: RunLease, version: number, acts: number, records: readonly RestingRecord[]) {
    this.rested += records.length;
    return super.letRest(lease, version, acts, records);
  }
}
class Restless extends Counting {
  override async letRest(lease: RunLease, version: number, _: number, records: readonly RestingRecord[]) {
    return super.letRest(lease, version, -1, records);
  }
}

const names = ['Osprey', 'Saltpan', 'Marram', 'Ospray'];
const slots = fc.integer({ min: 0, max: 3 });
const event = fc.oneof(
  {
    weight: 8,
    arbitrary: fc.record({
      kind: fc.constant('edit' as const),
      member: fc.constantFrom(...members),
      slot: slots,
      field: fc.constantFrom('email', 'name', 'limit'),
      value: fc.integer({ min: 0, max: 3 }),
    }),
  },
  {
    weight: 1,
    arbitrary: fc.record({ kind: fc.constant('delete' as const), member: fc.constantFrom(...members), slot: slots }),
  },
  {
    weight: 1,
    arbitrary: fc.record({
      kind: fc.constant('say' as const),
      a: fc.tuple(fc.constantFrom(...members), slots),
      b: fc.tuple(fc.constantFrom(...members), slots),
      same: fc.boolean(),
    }),
  },
  {
    weight: 1,
    arbitrary: fc.record({
      kind: fc.constant('set aside' as const),
      member: fc.constantFrom(...members),
      slot: slots,
      aside: fc.boolean(),
    }),
  },
  {
    weight: 4,
    arbitrary: fc.record({
      kind: fc.constant('run' as const),
      member: fc.option(fc.constantFrom(...members), { nil: undefined }),
      full: fc.boolean(),
    }),
  },
);
type Event = typeof event extends fc.Arbitrary<infer T> ? T : never;

const keyOf = (member: Member, slot: number): string => `${member}-${slot}`;
const valueOf = (field: string, value: number): string | number =>
  field === 'email' ? `${value}@marram.example` : field === 'name' ? (names[value] as string) : value;

/** What the histories need of a store, in memory or not. */
interface Kept {
  readonly store: Store;
  say(verdict: Verdict): Promise<void>;
  setAside(record: RecordRef, aside: boolean): Promise<void>;
  look(): Promise<{
    readonly anchors: readonly Anchor[];
    readonly outside: readonly OutsideRecord[];
    /** By their identities. */
    readonly decisions: readonly string[];
    /** What newcomers find the anchors by. */
    readonly found: readonly string[];
  }>;
}

const foundBy = (rule: number, key: string, anchor: string): string => `${anchor} rule ${rule}: ${hashKey(key)}`;
const comparedBy = (anchor: string, member: string, key: string, texts: string): string =>
  `${anchor} ${member} ${key}: ${texts}`;
/** An anchor is found by what it holds, whatever became of it. */
function foundOf(anchors: readonly { readonly id: AnchorId; readonly index: AnchorIndex }[]): string[] {
  return anchors.flatMap(({ id, index: { keys, evidence } }) => [
    ...keys.map(([rule, key]) => foundBy(rule, key, id)),
    ...evidence.map(({ member, key, texts }) => comparedBy(id, member, key, JSON.stringify(texts))),
  ]);
}
const indexed = (anchors: readonly Anchor[]) => {
  const indexes = indexOfAnchors(compiled, anchors);
  return anchors.map(({ id }, place) => ({ id, index: indexes[place] as AnchorIndex }));
};

const inMemory = <S extends InMemoryStore>(store: S): Kept & { readonly store: S } => ({
  store,
  say: (verdict) => store.say(verdict),
  setAside: (record, aside) => store.setAside(record, aside),
  look: async () => {
    const { anchors, outside, decisions } = store.state();
    return {
      anchors: anchors.map(([, { anchor }]) => anchor),
      outside,
      decisions: decisions.map(decisionIdentity),
      found: foundOf(anchors.map(([id, { index }]) => ({ id, index }))),
    };
  },
});

async function foundInPostgres(data: DataSource): Promise<string[]> {
  const keys = (await data.query('select anchor_id, rule, key_hash from match_key')) as {
    anchor_id: string;
    rule: number;
    key_hash: string;
  }[];
  const records = (await data.query('select anchor_id, member, record_key, texts from evidence_record')) as {
    anchor_id: string;
    member: string;
    record_key: string;
    texts: string;
  }[];
  return [
    ...keys.map(({ anchor_id: id, rule, key_hash: hash }) => `${id} rule ${rule}: ${hash}`),
    ...records.map((row) => comparedBy(row.anchor_id, row.member, row.record_key, row.texts)),
  ];
}

function inPostgres(data: DataSource): Kept {
  const store = new PostgresStore(data);
  const said = { person: 'Vera', at: new Date(0) };
  return {
    store,
    say: (verdict) => data.transaction((db) => saveVerdicts(db, knot.id, [verdict], said)),
    setAside: ({ member, key }, aside) =>
      data.transaction((db) => setAside(db, knot.id, member, [key], aside ? said : undefined)),
    look: async () => {
      const counts = [...(await store.tieCounts(knot.id))].sort();
      const counted = (await data.query(
        'select member, count(*)::int as count from tie where not gone group by member order by member collate "C"',
      )) as { member: string; count: number }[];
      expect(counts).toEqual(counted.map(({ member, count }) => [member, count]));
      return {
        anchors: [...(await storedState(data, knot.id)).anchors.values()],
        outside: await store.outside(knot.id),
        decisions: (
          (await data.query('select identity from decision where closed_at is null')) as { identity: string }[]
        ).map(({ identity }) => identity),
        found: await foundInPostgres(data),
      };
    },
  };
}

class World<K extends Kept> {
  readonly kept: K;
  readonly #world: SimulatedInstallation;

  constructor(kept: K) {
    this.kept = kept;
    this.#world = new SimulatedInstallation(knot, kept.store, simulationAbilities);
  }

  async play(told: Event): Promise<void> {
    switch (told.kind) {
      case 'edit':
        return this.#world
          .system(told.member)
          .edit(keyOf(told.member, told.slot), told.field, valueOf(told.field, told.value));
      case 'delete':
        this.#world.system(told.member).records.delete(recordKey(keyOf(told.member, told.slot)));
        return undefined;
      case 'say': {
        const [a, b] = [told.a, told.b].map(([member, slot]) => ({ member, key: recordKey(keyOf(member, slot)) }));
        if (a && b && recordId(a) !== recordId(b)) await this.kept.say({ a, b, same: told.same });
        return undefined;
      }
      case 'set aside':
        return this.kept.setAside({ member: told.member, key: recordKey(keyOf(told.member, told.slot)) }, told.aside);
      default:
        await this.run(told);
    }
  }

  async run({ member, full }: { readonly member: Member | undefined; readonly full: boolean }): Promise<void> {
    const members = member && new Set([member]);
    const read = knot.members.map(({ id }) => this.#world.system(id).records.size);
    const end = await this.#world.run({ overGuards: true, full, ...(members ? { members } : {}) });
    if (end.kind === 'busy') throw new Error('another run is under way');
    this.#accounts = knot.members.map(({ id }) => end.result.progress.tally[id]?.accounts as MemberAccount);
    // Of what is listed completely each record is in one list.
    const counted = this.#accounts.map((account) => Object.values(account).reduce((sum, count) => sum + count, 0));
    if (!member && full) expect(counted).toEqual(read);
  }
  #accounts: readonly MemberAccount[] = [];

  /** Which records belong together, which are in no anchor and why, how they are counted, and what the systems hold. */
  async seen() {
    const { anchors, outside, decisions, found } = await this.kept.look();
    expect(found.toSorted()).toEqual(foundOf(indexed(anchors)).sort());
    return {
      together: anchors
        .map(({ ties }) => ties.map(({ member, key, gone = false }) => [member, key, gone]).sort())
        .sort(),
      outside: outside.map(({ member, key, reason, verdict }) => [member, key, verdict ?? reason]).sort(),
      decisions: [...decisions].sort(),
      systems: members.map((member) =>
        [...this.#world.system(member).records.values()].map(({ key, fields }) => [key, fields]),
      ),
      accounts: this.#accounts,
    };
  }
}

/** Plays a history twice and compares what is seen after each run. */
async function playBoth(history: readonly Event[], resting: World<Kept>, restless: World<Kept>): Promise<void> {
  const end = { kind: 'run' as const, member: undefined, full: true };
  for (const told of [...history, end, end]) {
    await resting.play(told);
    await restless.play(told);
    if (told.kind === 'run') expect(await resting.seen()).toEqual(await restless.seen());
  }
}

const histories = fc.array(event, { minLength: 5, maxLength: 40 });

test('records that rest are tied, asked about and listed as if they had been looked at each time', async () => {
  let [rested, spared] = [0, 0];
  await fc.assert(
    fc.asyncProperty(histories, async (history) => {
      const [resting, restless] = [new World(inMemory(new Counting())), new World(inMemory(new Restless()))];
      await playBoth(history, resting, restless);
      rested += resting.kept.store.rested;
      spared += restless.kept.store.staged - resting.kept.store.staged;
    }),
    howMany(process.env.RESTING_HISTORIES, 200),
  );
  expect(rested).toBeGreaterThan(100);
  expect(spared).toBeGreaterThan(100);
});

test('so it is in PostgreSQL', async () => {
  const database = await TestDatabase.start();
  try {
    const { data } = await database.fresh();
    await fc.assert(
      fc.asyncProperty(histories, async (history) => {
        await data.query('truncate knot, evidence_record, evidence_block cascade');
        await data.query(`insert into knot (id, name, version_in_force) values ('customers', 'Customers', 1)`);
        await playBoth(history, new World(inPostgres(data)), new World(inMemory(new Restless())));
      }),
      howMany(process.env.RESTING_HISTORIES, 15),
    );
  } finally {
    await database.stop();
  }
}, 600_000);

test('a quiet run looks at nothing that waits for a person; what they are in doubt about wakes them', async () => {
  const store = new Counting();
  const world = new SimulatedInstallation(knot, store, simulationAbilities);
  world.system('crm').edit('crm-0', 'email', 'info@marram.example');
  for (let number = 0; number < 100; number += 1)
    world.system('shop').edit(`shop-${number}`, 'email', 'info@marram.example');
  const staged = async (): Promise<number> => {
    store.staged = 0;
    await world.run({ full: true });
    return store.staged;
  };
  const waiting = (): number => store.state().outside.filter(({ reason }) => reason === 'waiting').length;
  await staged();
  await staged();
  expect([waiting(), await staged(), waiting()]).toEqual([100, 0, 100]);
  // Of two that are left the other one waits still; alone it is tied.
  for (let number = 2; number < 100; number += 1) world.system('shop').records.delete(recordKey(`shop-${number}`));
  await staged();
  expect([waiting(), await staged()]).toEqual([2, 0]);
  world.system('shop').edit('shop-1', 'email', 'other@marram.example');
  await staged();
  expect(store.state().outside.map(({ key, reason }) => [key, reason])).toEqual([['shop-1', 'untied']]);
});

test('of a thousand records that nothing is like a run stages the one that something is like now', async () => {
  const store = new Counting();
  const world = new SimulatedInstallation(knot, store, simulationAbilities);
  for (let number = 0; number < 1000; number += 1)
    world.system('shop').edit(`shop-${number}`, 'email', `${number}@marram.example`);
  await world.run();
  store.staged = 0;
  world.system('crm').edit('crm-7', 'email', '7@marram.example');
  await world.run();
  expect(store.staged).toBe(2);
  expect(store.state().anchors.map(([, { anchor }]) => anchor.ties.map(({ key }) => key).slice(0, 2))).toEqual([
    ['crm-7', 'shop-7'],
  ]);
});

test('a thousand rejected records rest; one that another one kept out is taken in when that changes', async () => {
  const store = new Counting();
  const world = new SimulatedInstallation(knot, store, simulationAbilities);
  const shop = world.system('shop');
  for (let number = 0; number < 1000; number += 1) shop.edit(`shop-${number}`, 'name', 'Ospray');
  for (const key of ['one', 'two', 'three']) shop.edit(key, 'limit', 5);
  const run = async (): Promise<number> => {
    store.staged = 0;
    const end = await world.run();
    return end.kind === 'ended' ? (end.result.progress.tally.shop?.rejected ?? 0) : 0;
  };
  const lists = (): Record<string, string> =>
    Object.fromEntries(
      store
        .state()
        .outside.filter(({ key }) => !key.startsWith('shop'))
        .map(({ key, reason, verdict }) => [key, verdict ?? reason]),
    );
  await run();
  // As they are known, and as they are read again.
  expect([await run(), store.staged]).toEqual([1003, 3 * 2]);
  await store.setAside({ member: 'shop', key: recordKey('three') }, true);
  expect([await run(), store.staged, lists()]).toEqual([
    1002,
    2 * 2,
    { one: 'rejected', two: 'rejected', three: 'aside' },
  ]);
  shop.edit('one', 'limit', 6);
  await run();
  expect(lists()).toEqual({ one: 'untied', two: 'untied', three: 'aside' });
  shop.edit('shop-7', 'name', 'Osprey');
  await run();
  expect(store.staged).toBe(1);
});

test('a record whose filter cannot be worked out stays rejected in runs that do not read it', async () => {
  const filtered: Knot = {
    ...knot,
    members: knot.members.map((member) =>
      member.id === 'crm' ? { ...member, filter: 'record.kind == "customer"' } : member,
    ),
  };
  const store = new Counting();
  const world = new SimulatedInstallation(filtered, store, simulationAbilities);
  world.system('crm').edit('crm-0', 'email', 'a@marram.example');
  // The same value twice: both are judged anew in each run.
  for (const key of ['one', 'two']) world.system('shop').edit(key, 'limit', 5);
  const lists = (): readonly string[] => store.state().outside.map(({ key, reason }) => `${key} ${reason}`);
  for (const members of [undefined, new Set<string>(), new Set<string>()])
    await world.run(members ? { members, records: new Map([['shop', [recordKey('one')]]]) } : {});
  expect(lists().toSorted()).toEqual(['crm-0 rejected', 'one rejected', 'two rejected']);
  expect(world.system('list').records.size).toBe(0);
});
