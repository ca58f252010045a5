import {
  type CompiledKnot,
  compileKnot,
  type Knot,
  type MemberId,
  type Raw,
  readPath,
  type RecordKey,
  recordKey,
  type SourceRecord,
  writePath,
} from '@anchor-knot/core';
import {
  type Capabilities,
  type Clock,
  type Connector,
  SystemTrouble,
  type WriteOutcome,
  type WriteRequest,
} from '@anchor-knot/connectors';
import type { Installation, RunOptions } from '../orchestration/installation.js';
import { runKnot } from '../orchestration/runKnot.js';
import { LeaseLost } from '../orchestration/lease.js';
import type { Store } from '../orchestration/store.js';
import { workBatch } from '../orchestration/workBatch.js';

/** What goes wrong at one input or output. */
export type Fault = 'fails before' | 'fails after' | 'worker dies before' | 'worker dies after';

/** The worker is gone: nothing of the run may happen after this. */
export class WorkerDied extends Error {}

/** Something that makes calls, and may die in the middle of one. */
export interface SimulatedWorker {
  dead: boolean;
}

/** Counts every read, write and store call, and lets one of them go wrong. */
export class FaultInjector {
  count = 0;
  at: number | undefined;
  fault: Fault = 'fails before';
  /** Names of the calls made, in order. */
  readonly calls: string[] = [];
  /** How often others have their turn before a call: workers go on side by side. */
  turns: () => number = () => 0;

  /** Runs a call, with the fault if it is its turn. `fail` is what a plain failure of this call looks like. */
  async around<T>(
    worker: SimulatedWorker,
    name: string,
    call: () => Promise<T>,
    fail: (effect: 'none' | 'done') => T | Promise<T>,
  ): Promise<T> {
    for (let turns = this.turns(); turns > 0; turns -= 1) await Promise.resolve();
    // What a dead worker had begun side by side dies with it.
    if (worker.dead) throw new WorkerDied();
    this.count += 1;
    this.calls.push(name);
    if (this.count !== this.at) return call();
    if (this.fault === 'worker dies before') return die(worker);
    if (this.fault === 'fails before') return fail('none');
    const result = await call();
    if (this.fault === 'worker dies after') return die(worker);
    void result;
    return fail('done');
  }
}

function die(worker: SimulatedWorker): never {
  worker.dead = true;
  throw new WorkerDied();
}

/** Time that passes only when somebody waits. */
export class SimulatedClock implements Clock {
  time = Date.UTC(2026, 10, 23, 9, 0, 0);
  now(): number {
    return this.time;
  }
  async sleep(milliseconds: number): Promise<void> {
    this.time += milliseconds;
  }
}

export interface SimulatedSystemOptions {
  readonly conditionalUpdate: boolean;
  readonly idempotentCreate: boolean;
  readonly changesSince: boolean;
  readonly searchable: readonly string[];
  readonly batchSize: number;
}

/** A system in memory: records, and a connector to them on which faults can be injected. */
export class SimulatedSystem {
  readonly records = new Map<RecordKey, SourceRecord>();
  /** What the system says of values that it does not take. */
  refuses: (fields: ReadonlyMap<string, Raw>) => string | undefined = () => undefined;
  readonly #clock: SimulatedClock;
  readonly #options: SimulatedSystemOptions;
  readonly #created = new Map<string, RecordKey>();
  #next = 0;

  constructor(clock: SimulatedClock, options: SimulatedSystemOptions) {
    this.#clock = clock;
    this.#options = options;
  }

  /** Somebody makes or edits a record. */
  edit(key: string, path: string, value: Raw): void {
    this.#clock.time += 5000;
    this.#put(recordKey(key), new Map([[path, value]]));
  }

  value(key: string, path: string): Raw | undefined {
    return readPath(this.records.get(recordKey(key))?.fields ?? {}, path);
  }

  #put(key: RecordKey, changes: ReadonlyMap<string, Raw>): SourceRecord {
    let fields = this.records.get(key)?.fields ?? {};
    for (const [path, value] of changes) fields = writePath(fields, path, value);
    const record: SourceRecord = { key, fields, version: `v${(this.#next += 1)}`, modifiedAt: this.#clock.now() };
    this.records.set(key, record);
    return record;
  }

  connector(name: string, faults: FaultInjector, worker: SimulatedWorker): Connector {
    const capabilities: Capabilities = {
      ...this.#options,
      archive: true,
      delete: true,
      createField: false,
      tombstones: false,
      webhooks: false,
      create: true,
      update: true,
    };
    const trouble = (): never => {
      throw new SystemTrouble('server error', `${name} failed`, 'Try again later.');
    };
    const shown = (record: SourceRecord): SourceRecord =>
      this.#options.conditionalUpdate
        ? record
        : { key: record.key, fields: record.fields, modifiedAt: record.modifiedAt as number };
    const { records } = this;
    return {
      capabilities,
      describe: async () => undefined,
      clockOffset: () => 0,
      close: async () => undefined,
      async *read({ changedSince }) {
        const all = [...records.keys()].sort();
        for (let at = 0; at < all.length || at === 0; at += 3) {
          yield await faults.around(
            worker,
            `${name}.read`,
            async () => ({
              records: all
                .slice(at, at + 3)
                .map((key) => shown(records.get(key) as SourceRecord))
                .filter(({ modifiedAt }) => changedSince === undefined || (modifiedAt as number) >= changedSince),
              unusable: [],
            }),
            trouble,
          );
        }
      },
      readOne: (key) =>
        faults.around(
          worker,
          `${name}.readOne`,
          async () => (records.has(key) ? shown(records.get(key) as SourceRecord) : undefined),
          trouble,
        ),
      search: (field, value) =>
        faults.around(
          worker,
          `${name}.search`,
          async () => [...records.values()].filter((record) => readPath(record.fields, field) === value).map(shown),
          trouble,
        ),
      write: (requests) => {
        if (requests.length > capabilities.batchSize) throw new Error('batch too large');
        return faults.around<readonly WriteOutcome[]>(
          worker,
          `${name}.write`,
          async () => requests.map((request) => this.#write(request, shown)),
          (effect) => requests.map(() => ({ kind: 'unknown', words: `the connection broke (${effect})` })),
        );
      },
    };
  }

  #write(request: WriteRequest, shown: (record: SourceRecord) => SourceRecord): WriteOutcome {
    const refused = 'fields' in request ? this.refuses(request.fields) : undefined;
    if (refused !== undefined) return { kind: 'refused', words: refused };
    if (request.kind === 'create') {
      const before = this.#options.idempotentCreate ? this.#created.get(request.idempotencyKey) : undefined;
      const key = before ?? recordKey(`new${(this.#next += 1)}`);
      const record = before ? (this.records.get(before) as SourceRecord) : this.#put(key, request.fields);
      this.#created.set(request.idempotencyKey, key);
      return { kind: 'written', key, record: shown(record) };
    }
    const known = this.records.get(request.key);
    if (!known) return { kind: 'gone' };
    if (this.#options.conditionalUpdate && known.version !== request.version) return { kind: 'raced' };
    if (request.kind === 'delete') {
      this.records.delete(request.key);
      return { kind: 'written', key: request.key, record: undefined };
    }
    if (request.kind === 'archive')
      return {
        kind: 'written',
        key: request.key,
        record: shown(this.#put(request.key, new Map([['archived', true]]))),
      };
    return { kind: 'written', key: request.key, record: shown(this.#put(request.key, request.fields)) };
  }
}

/** Whether it is a fault that was asked for, or what follows from one. */
export const isStoreFault = (error: unknown): boolean =>
  error instanceof WorkerDied ||
  error instanceof LeaseLost ||
  (error instanceof Error && error.message.startsWith('the database failed'));

function passFaults(error: unknown): void {
  if (!isStoreFault(error)) throw error;
}

/** A whole installation in one process: systems, store and clock, all simulated, all deterministic. */
export class SimulatedInstallation {
  readonly clock = new SimulatedClock();
  readonly faults = new FaultInjector();
  readonly systems = new Map<MemberId, SimulatedSystem>();
  readonly knot: CompiledKnot;
  /** How long calls that are under way may take; a store in memory takes none. */
  settleMs = 0;
  readonly installation: Installation;
  readonly #store: Store;
  /** The worker that drives a run. */
  readonly #driver: SimulatedWorker = { dead: false };
  #ids = 0;

  constructor(definition: Knot, store: Store, options: (member: MemberId) => SimulatedSystemOptions) {
    const compiled = compileKnot(definition);
    if (!compiled.ok) throw new Error(JSON.stringify(compiled.problems));
    this.knot = compiled.knot;
    for (const { id } of definition.members) this.systems.set(id, new SimulatedSystem(this.clock, options(id)));
    this.#store = store;
    this.installation = this.#installationOf(this.#driver);
  }

  #installationOf(worker: SimulatedWorker): Installation {
    return {
      store: this.#faulty(this.#store, worker),
      clock: this.clock,
      nextId: () => `00000000-0000-7000-8000-${String((this.#ids += 1)).padStart(12, '0')}`,
      connect: async (member) => this.system(member.id).connector(member.id, this.faults, worker),
      systemName: (member) => member,
      recordPage: (member, key) => `/${member}/${key}`,
    };
  }

  system(member: MemberId): SimulatedSystem {
    return this.systems.get(member) as SimulatedSystem;
  }

  /**
   * A run that several workers share, part by part, each in its own time.
   * @param workers how many help the one that drives it
   */
  async runTogether(workers: number, more: Partial<RunOptions> = {}) {
    const options = { ...this.#options, ...more };
    let isOver = false;
    const help = async (): Promise<void> => {
      const worker: SimulatedWorker = { dead: false };
      const installation = this.#installationOf(worker);
      while (!isOver && !worker.dead) {
        await Promise.resolve();
        const taken = await this.#store.takeBatch({ now: this.clock.now(), leaseMs: options.leaseMs });
        if (taken) await workBatch(installation, options, taken).catch(passFaults);
      }
    };
    return this.#untilQuiet(async () => {
      const helping = Array.from({ length: workers }, help);
      try {
        return await runKnot(this.installation, options);
      } finally {
        isOver = true;
        await Promise.all(helping);
      }
    });
  }

  /** A run; afterwards enough time passes that the lease of a dead worker has run out. */
  async run(more: Partial<RunOptions> = {}) {
    return this.#untilQuiet(() => runKnot(this.installation, { ...this.#options, ...more }));
  }

  async #untilQuiet<T>(work: () => Promise<T>): Promise<T> {
    try {
      return await work();
    } finally {
      // Calls that were under way when the worker died come to their end; then another worker may start.
      if (this.#driver.dead) await new Promise((resolve) => setTimeout(resolve, this.settleMs));
      this.#driver.dead = false;
      this.clock.time += 120_000;
    }
  }

  get #options(): RunOptions {
    return { knot: this.knot, knotVersion: 1, kind: 'run', startedBy: 'simulation', leaseMs: 60_000 };
  }

  #faulty(store: Store, worker: SimulatedWorker): Store {
    const { faults } = this;
    return new Proxy(store, {
      get(target, name: string) {
        const method = (target as unknown as Record<string, (...values: unknown[]) => unknown>)[name];
        if (typeof method !== 'function') return method;
        if (name === 'stagedNewcomers') return method.bind(target);
        return (...values: unknown[]) =>
          faults.around(
            worker,
            `store.${name}`,
            async () => method.apply(target, values),
            () => {
              throw new Error(`the database failed at ${name}`);
            },
          );
      },
    });
  }
}
