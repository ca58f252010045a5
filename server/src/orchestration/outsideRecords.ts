import { type CompiledKnot, type MemberId, type Reading, recordId, type RecordKey } from '@anchor-knot/core';
import { identityOf } from './indexAnchors.js';
import type { RunOptions } from './installation.js';
import { emptyAccount, type MemberAccount } from './runResult.js';
import type { RunLease } from './lease.js';
import type { Store } from './store.js';
import type { OutsideRecord, RecordRef, RestingCounts, StagedRecord } from './stored.js';
import { unlistedPages } from './unlistedPages.js';

/** How it begins what is said of a record of which it is not known whether it takes part. */
export const unclearFilter = 'the filter of this member cannot be worked out for it';

const noneRests: RestingCounts = { untied: 0, waiting: 0, rejected: 0, aside: 0 };

/**
 * The records that were read once and belong to no anchor. They *rest*: one takes part again when it has changed, when
 * something is read that shares a key or a block with it or with what it is in doubt about, and after something of that
 * kind was stored or said; also under a new version of the knot. One that is rejected for a value that another record
 * has too takes part in each run, since any record may be that other one; one that a person has set aside takes part in
 * none. So the cost of a run does not grow with the records that stay where they are.
 */
export class OutsideRecords {
  readonly #store: Store;
  readonly #options: RunOptions;
  readonly #lease: RunLease;
  /** By record, those that take part in this run. */
  readonly #awake = new Map<string, OutsideRecord>();
  readonly #known: RecordRef[] = [];
  readonly #resting = new Map<MemberId, RestingCounts>();
  readonly #left = new Map<string, RecordRef>();
  /** How often people had acted on anchors when the run began. */
  readonly acts: number;

  private constructor(
    store: Store,
    options: RunOptions,
    lease: RunLease,
    accounts: ReadonlyMap<MemberId, MemberAccount>,
    acts: number,
  ) {
    this.#store = store;
    this.#options = options;
    this.#lease = lease;
    for (const [member, { untied, waiting, rejected, aside }] of accounts)
      this.#resting.set(member, { untied, waiting, rejected, aside });
    this.acts = acts;
  }

  /** Loads and stages those that do not rest. */
  static async begin(store: Store, options: RunOptions, lease: RunLease): Promise<OutsideRecords> {
    const { knot, knotVersion } = options;
    // First: what somebody does afterwards is not missed.
    const acts = await store.actsOf(knot.id);
    const [accounts, records] = await Promise.all([store.accounts(knot.id), store.outside(knot.id, knotVersion)]);
    const outside = new OutsideRecords(store, options, lease, accounts, acts);
    for (const record of records) outside.#restsNoMore(record);
    for (const member of knot.members) {
      const own = records.filter((record) => record.member === member.id);
      const keys = own.map(({ key }) => key);
      const tied = await store.tieHeads(knot.id, member.id, keys);
      for (const record of own) if (!tied.has(record.key)) outside.#awake.set(recordId(record), record);
    }
    await outside.#stage([...outside.#awake.values()], ({ member, reading }) => checkedAgain(knot, member, reading));
    return outside;
  }

  /** Those that were outside before and took part in this run, or have left: those that do not stay are forgotten. */
  get known(): readonly RecordRef[] {
    return this.#known;
  }

  /** Those that are gone or take no part any more, and tied ones that are gone. */
  get left(): readonly RecordRef[] {
    return [...this.#left.values()];
  }

  get someRest(): boolean {
    return [...this.#resting.keys()].some((member) => this.#someRestOf(member));
  }

  restingOf(member: MemberId): RestingCounts {
    return this.#resting.get(member) ?? noneRests;
  }

  #someRestOf(member: MemberId): boolean {
    const { untied, waiting, rejected, aside } = this.restingOf(member);
    return untied + waiting + rejected + aside > 0;
  }

  get(record: RecordRef): OutsideRecord | undefined {
    return this.#awake.get(recordId(record));
  }

  /** A record as it is known now; one that rested takes part from then on. */
  put(record: OutsideRecord): void {
    if (!this.get(record)) this.#restsNoMore(record);
    this.#awake.set(recordId(record), record);
  }

  setAside(): OutsideRecord[] {
    return [...this.#awake.values()].filter(({ verdict }) => verdict === 'aside');
  }

  /** Those among these that rest or are set aside, by their names. */
  async restingAmong(records: readonly RecordRef[]): Promise<ReadonlyMap<string, OutsideRecord>> {
    const asked = records.filter((record) => this.#someRestOf(record.member) && !this.get(record));
    if (asked.length === 0) return new Map();
    return new Map(
      (await this.#store.restingAmong(this.#lease.knot, asked)).map((record) => [recordId(record), record]),
    );
  }

  /** Has those among these that rest take part. @param readingOf what is known of one by now */
  async wakeAmong(records: readonly RecordRef[], readingOf: (record: OutsideRecord) => Reading): Promise<void> {
    const resting = [...(await this.restingAmong(records)).values()];
    await this.wake(
      resting.filter(({ verdict }) => verdict === undefined),
      readingOf,
    );
  }

  /** Has records that rest take part. */
  async wake(
    records: readonly OutsideRecord[],
    readingOf: (record: OutsideRecord) => Reading = ({ reading }) => reading,
  ): Promise<readonly StagedRecord[]> {
    for (const record of records) this.put(record);
    return this.#stage(records, readingOf);
  }

  #restsNoMore({ member, key, reason, verdict }: OutsideRecord): void {
    this.#known.push({ member, key });
    const counts = this.restingOf(member);
    const list = verdict ?? reason;
    // One that a person put outside since the run began was not counted.
    this.#resting.set(member, { ...counts, [list]: Math.max(0, counts[list] - 1) });
  }

  /** Records that are gone, or take no part any more. */
  async leave(given: readonly RecordRef[]): Promise<void> {
    const records = given.filter((record) => !this.hasLeft(record));
    const resting = [...(await this.restingAmong(records)).values()];
    for (const record of resting) this.#restsNoMore(record);
    const awake = records.filter((record) => this.get(record));
    this.#noteLeft([...resting, ...awake]);
    if (resting.length + awake.length > 0) await this.#store.noteLeft(this.#lease, [...resting, ...awake]);
    if (awake.length > 0) await this.#store.unstage(this.#lease, awake);
    for (const record of records) this.#awake.delete(recordId(record));
  }

  hasLeft(record: RecordRef): boolean {
    return this.#left.has(recordId(record));
  }

  #noteLeft(records: readonly RecordRef[]): void {
    for (const { member, key } of records) this.#left.set(recordId({ member, key }), { member, key });
  }

  /** Tied records that are gone: others may be in doubt about their anchors. */
  noteGone(member: MemberId, keys: readonly RecordKey[]): void {
    this.#noteLeft(keys.map((key) => ({ member, key })));
  }

  /** Those that a complete listing of their member has not shown. */
  async leaveUnlisted(member: MemberId): Promise<void> {
    for await (const keys of unlistedPages(this.#store, this.#lease, member, 'outside'))
      await this.leave(keys.map((key) => ({ member, key })));
  }

  async #stage(
    records: readonly OutsideRecord[],
    readingOf: (record: OutsideRecord) => Reading,
  ): Promise<readonly StagedRecord[]> {
    const { knot } = this.#options;
    const staged = records.map((record): StagedRecord => ({
      member: record.member,
      key: record.key,
      reading: readingOf(record),
      anchor: undefined,
      ...identityOf(knot, record.member, record.reading),
    }));
    if (staged.length > 0) await this.#store.stage(this.#lease, staged);
    return staged;
  }
}

/**
 * A waiting record that was not read again is judged by the checks as they are now. A filter looks at more than what is
 * kept of it.
 */
function checkedAgain(knot: CompiledKnot, member: MemberId, { rejected = [], ...reading }: Reading): Reading {
  const { says } = knot.failedChecks(member, reading.fields);
  const all = [...says, ...rejected.filter((one) => one.startsWith(unclearFilter))];
  return all.length > 0 ? { ...reading, rejected: all } : reading;
}

/** In which list each record is that was read: those that are tied, of each reason outside, and the filtered ones. */
export function accountsOf(
  knot: CompiledKnot,
  known: ReadonlyMap<MemberId, MemberAccount>,
  ties: ReadonlyMap<MemberId, number>,
  outside: OutsideRecords,
  staying: readonly OutsideRecord[],
): ReadonlyMap<MemberId, MemberAccount> {
  return new Map(
    knot.members.map(({ id }) => {
      const account = { ...emptyAccount, filtered: known.get(id)?.filtered ?? 0, tied: ties.get(id) ?? 0 };
      Object.assign(account, outside.restingOf(id));
      for (const { member, reason, verdict } of staying) if (member === id) account[verdict ?? reason] += 1;
      return [id, account];
    }),
  );
}
