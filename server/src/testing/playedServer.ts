import { v7 as uuid } from 'uuid';
import {
  type Anchor,
  type AnchorId,
  type CompiledKnot,
  type Knot,
  type MemberId,
  type Raw,
  recordId,
  readPath,
  type RecordKey,
  recordKey,
  type Shared,
  type SourceRecord,
  type TieEnd,
  writePath,
} from '@anchor-knot/core';
import {
  type HeldField,
  keptBySystem,
  type PlayedInstallation,
  type PlayedOutcome,
  type PlayedWrite,
  type RunSettings,
  type WriteFate,
} from '@anchor-knot/core/testing';
import { type Connector, SystemTrouble, type WriteOutcome, type WriteRequest } from '@anchor-knot/connectors';
import type { DataSource } from 'typeorm';
import { splitByHand } from '../anchors/handTies.js';
import { decide } from '../decisions/decide.js';
import { Knots, type LoadedKnot } from '../knots/knots.js';
import { runKnot } from '../orchestration/runKnot.js';
import type { Store } from '../orchestration/store.js';
import type { PlanEntry } from '../orchestration/stored.js';
import { PostgresStore } from '../persistence/postgresStore.js';
import { SimulatedClock } from './simulation.js';
import { storedState, type StoredHeld, toldAsLost } from './storedState.js';

const person = 'Vera';
const betweenEvents = 10_000;
const leaseMs = 3_600_000;

/**
 * The server's runs on PostgreSQL, and what people do in the application through the functions of its routes, as an
 * installation that histories are played on. Only the systems are simulated.
 */
export class PlayedServer implements PlayedInstallation {
  readonly records = new Map<MemberId, Map<RecordKey, SourceRecord>>();
  readonly readAt = new Map<string, number>();
  anchors: ReadonlyMap<AnchorId, Anchor> = new Map();
  readonly #clock = new SimulatedClock();
  readonly #data: DataSource;
  readonly #store: PostgresStore;
  readonly #knots: Knots;
  #inForce: LoadedKnot;
  #held: readonly StoredHeld[] = [];
  #lastEntry = '0';
  #versions = 0;
  /** Records that were made for an idempotency key. */
  readonly #created = new Map<string, RecordKey>();

  private constructor(data: DataSource, knots: Knots, inForce: LoadedKnot) {
    this.#data = data;
    this.#store = new PostgresStore(data);
    this.#knots = knots;
    this.#inForce = inForce;
    // The database knows no other time than the real one, and leases are compared with it.
    this.#clock.time = Date.now();
    for (const { id } of inForce.definition.members) this.records.set(id, new Map());
  }

  static async begin(data: DataSource, definition: Knot): Promise<PlayedServer> {
    const knots = new Knots(data);
    await knots.create(definition, person);
    return new PlayedServer(data, knots, (await knots.inForce(definition.id)) as LoadedKnot);
  }

  get knot(): CompiledKnot {
    return this.#inForce.compiled;
  }

  get now(): number {
    return this.#clock.time;
  }

  edit(member: MemberId, key: string, path: string, value: Raw): void {
    this.#clock.time += betweenEvents;
    const known = this.#of(member).get(recordKey(key));
    this.#put(member, recordKey(key), writePath(known?.fields ?? {}, path, value));
  }

  delete(member: MemberId, key: string): void {
    this.#clock.time += betweenEvents;
    this.#of(member).delete(recordKey(key));
  }

  async settle(held: HeldField, value: Shared): Promise<boolean> {
    const known = this.#held.find(({ anchor, field }) => anchor === held.anchor && field === held.field);
    if (!known) return false;
    const choice = { choose: 'value' as const, value: value as never, fingerprint: known.fingerprint };
    const outcome = await decide(this.#data, this.#inForce, known.decision, choice, person, new Date(this.now));
    await this.#look();
    return outcome.kind === 'decided';
  }

  async sayWhatFollows(anchor: AnchorId, member: MemberId, end: TieEnd): Promise<void> {
    if (end !== 'keep others' && end !== 'archive others' && end !== 'delete others') return;
    const [asked] = (await this.#data.query(
      `select id, fingerprint from decision where knot_id = $1 and kind = 'deleted elsewhere' and anchor_id = $2
       and member = $3 and closed_at is null`,
      [this.#inForce.id, anchor, member],
    )) as { id: string; fingerprint: string }[];
    if (!asked) return;
    const choice = { choose: end, fingerprint: asked.fingerprint };
    await decide(this.#data, this.#inForce, asked.id, choice, person, new Date(this.now));
    await this.#look();
  }

  async untie(anchor: AnchorId, member: MemberId): Promise<boolean> {
    await splitByHand(this.#data, this.#inForce, anchor, [member], person, new Date(this.now));
    await this.#look();
    return true;
  }

  async putInForce(definition: Knot): Promise<void> {
    const basedOn = this.#inForce.version;
    await this.#knots.change({ definition, basedOn, draft: 0, note: 'another' }, person);
    await this.#look();
  }

  /** @param full all members are listed as a whole, also the one that can say what has changed */
  async run({ full = false, ...settings }: RunSettings & { readonly full?: boolean } = {}): Promise<PlayedOutcome> {
    this.#clock.time += betweenEvents;
    const readable = this.#namesOf(settings.missing);
    const applied: PlanEntry[] = [];
    const end = await runKnot(
      {
        store: this.#watched(settings, applied),
        clock: this.#clock,
        nextId: () => uuid(),
        connect: async ({ id }) => this.#connector(id, settings),
        systemName: (member) => member,
        recordPage: () => undefined,
      },
      {
        knot: this.knot,
        knotVersion: this.#inForce.version,
        kind: 'run',
        startedBy: person,
        leaseMs,
        full,
        overGuards: true,
      },
    );
    if (end.kind === 'busy') throw new Error('another run is under way');
    const { places } = await this.#look();
    const left = this.#namesOf();
    const { lost, last } = await toldAsLost(this.#data, this.#lastEntry);
    this.#lastEntry = last;
    return {
      operations: applied.flatMap(({ operations }) => operations),
      held: this.#held,
      lost,
      settled: applied.flatMap(({ anchor, after }) =>
        Object.entries(after.agreed).map(([field, { value, why }]) => ({ anchor, field, value, why })),
      ),
      // What the run has removed is in no list any more.
      places: new Map([...readable].filter((name) => left.has(name)).map((name) => [name, places.get(name) ?? []])),
    };
  }

  /** The store, with what people do after planning, and an eye on what is applied. */
  #watched({ meanwhile }: RunSettings, applied: PlanEntry[]): Store {
    let isPlanned = false;
    const planned: Store['planned'] = async (...asked) => {
      if (!isPlanned) {
        isPlanned = true;
        await this.#look();
        await meanwhile?.('planned');
      }
      return this.#store.planned(...asked);
    };
    const commitMerge: Store['commitMerge'] = async (lease, entries, ...more) => {
      const stored = await this.#store.commitMerge(lease, entries, ...more);
      applied.push(...entries.filter(({ anchor }) => stored.includes(anchor)));
      return stored;
    };
    const changed: Partial<Store> = { planned, commitMerge };
    return new Proxy(this.#store, {
      get: (store, name: keyof Store) => {
        const method = changed[name] ?? store[name];
        return typeof method === 'function' ? method.bind(store) : method;
      },
    });
  }

  async #look() {
    const state = await storedState(this.#data, this.#inForce.id);
    this.anchors = state.anchors;
    this.#held = state.held;
    this.#inForce = (await this.#knots.inForce(this.#inForce.id)) as LoadedKnot;
    return state;
  }

  #namesOf(without: ReadonlySet<MemberId> = new Set()): ReadonlySet<string> {
    const members = [...this.records].filter(([member]) => !without.has(member));
    return new Set(members.flatMap(([member, all]) => [...all.keys()].map((key) => recordId({ member, key }))));
  }

  #of(member: MemberId): Map<RecordKey, SourceRecord> {
    return this.records.get(member) as Map<RecordKey, SourceRecord>;
  }

  #put(member: MemberId, key: RecordKey, fields: SourceRecord['fields']): SourceRecord {
    const record = { key, fields, version: `v${(this.#versions += 1)}`, modifiedAt: this.now };
    this.#of(member).set(key, record);
    return record;
  }

  /** The first member knows idempotency keys, the third what has changed; others are searched by their key. */
  #connector(member: MemberId, settings: RunSettings): Connector {
    const records = this.#of(member);
    const seen = (record: SourceRecord): SourceRecord => {
      this.readAt.set(recordId({ member, key: record.key }), this.now);
      return record;
    };
    const isMissing = settings.missing?.has(member) === true;
    const fates = new Fates(settings);
    return {
      capabilities: {
        batchSize: member === 'b' ? 2 : 1,
        conditionalUpdate: true,
        idempotentCreate: member === 'a',
        changesSince: member === 'c',
        searchable: ['key'],
        create: true,
        update: true,
        archive: true,
        delete: true,
        tombstones: false,
        webhooks: false,
        createField: false,
      },
      describe: async () => undefined,
      clockOffset: () => 0,
      close: async () => undefined,
      async *read({ changedSince }) {
        if (isMissing) throw new SystemTrouble('unreachable', `${member} cannot be reached`, 'Try again later.');
        const wanted = [...records.values()].filter(
          ({ modifiedAt }) => changedSince === undefined || (modifiedAt as number) >= changedSince,
        );
        yield { records: wanted.map(seen), unusable: [] };
      },
      readOne: async (key) => {
        const record = records.get(key);
        return record && seen(record);
      },
      search: async (field, value) => [...records.values()].filter(({ fields }) => readPath(fields, field) === value),
      write: async (requests) => {
        const outcomes: WriteOutcome[] = [];
        for (const request of requests) {
          await this.#look();
          outcomes.push(this.#write(member, request, fates, settings));
          await settings.meanwhile?.('writing');
        }
        return outcomes;
      },
    };
  }

  #write(member: MemberId, request: WriteRequest, fates: Fates, { race }: RunSettings): WriteOutcome {
    const made = request.kind === 'create' && member === 'a' ? this.#created.get(request.idempotencyKey) : undefined;
    const known = made && this.#of(member).get(made);
    if (made && known) return { kind: 'written', key: made, record: known };
    const write = {
      kind: request.kind,
      member,
      key: request.kind === 'create' ? undefined : request.key,
      values: 'fields' in request ? request.fields : undefined,
    };
    const fate = fates.of(write, request.kind === 'create' ? request.idempotencyKey : request.key);
    if (fate === 'fails') return { kind: 'not done', words: 'it failed' };
    if (fate === 'refused') return { kind: 'refused', words: 'no' };
    if (fate === 'raced') race?.(write);
    if (request.kind !== 'create') {
      const present = this.#of(member).get(request.key);
      if (!present) return { kind: 'gone' };
      if (present.version !== request.version) return { kind: 'raced' };
      if (request.kind !== 'update') {
        this.#of(member).delete(request.key);
        return { kind: 'written', key: request.key, record: undefined };
      }
    }
    const key = request.kind === 'create' ? recordKey(`${member}-${(this.#versions += 1)}`) : request.key;
    let fields = this.#of(member).get(key)?.fields ?? {};
    for (const [path, value] of request.fields) fields = writePath(fields, path, keptBySystem(fate, path, value));
    let record = this.#put(member, key, fields);
    if (request.kind === 'create') this.#created.set(request.idempotencyKey, key);
    if (fate === 'repeated') record = this.#put(member, key, fields);
    if (fate === 'lost') return { kind: 'unknown', words: 'the connection broke' };
    return { kind: 'written', key, record: fate === 'silent' ? undefined : record };
  }
}

/** How often a write is tried that fails. */
const mostTries = 4;

/** One fate for a write, however often it is tried. */
class Fates {
  readonly #settings: RunSettings;
  readonly #failing = new Map<string, number>();

  constructor(settings: RunSettings) {
    this.#settings = settings;
  }

  of(write: PlayedWrite, name: string): WriteFate {
    const tries = this.#failing.get(name) ?? 0;
    const fate = tries > 0 ? 'fails' : (this.#settings.fate?.(write) ?? 'ok');
    if (fate !== 'fails') return fate;
    if (tries + 1 < mostTries) this.#failing.set(name, tries + 1);
    else this.#failing.delete(name);
    return fate;
  }
}
