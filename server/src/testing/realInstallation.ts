import { randomBytes } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as wait } from 'node:timers/promises';
import type { FastifyInstance } from 'fastify';
import { pino } from 'pino';
import { groupsSystemSchema, type HttpSystem, httpSystemSchema, knotFileSchema } from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import {
  type CrmOptions,
  crmServer,
  type CustomerData,
  type Faults,
  noFaults,
  type ShopOptions,
  shopServer,
} from '@anchor-knot/standins';
import { type InstallationParts, openInstallation } from '../installationParts.js';
import { RunEntity, type RunRow } from '../persistence/entities/entities.js';
import { PostgresStore } from '../persistence/postgresStore.js';
import type { RunJob } from '../worker/jobs.js';
import { Worker } from '../worker/worker.js';
import type { TestDatabase } from './testDatabase.js';

const demo = join(import.meta.dirname, '../../demo');
/** The demo's knot between the two systems that are started here. */
export const demoKnot: Knot = between(
  ['crm', 'shop'],
  knotFileSchema.parse(JSON.parse(readFileSync(join(demo, 'customers.knot.json'), 'utf8'))).knot,
);
const descriptions = JSON.parse(readFileSync(join(demo, 'systems.json'), 'utf8')) as Record<
  string,
  Record<string, unknown>
>;

/** A knot without its other members, and without what only those give; tied by keys alone. */
function between(members: readonly string[], knot: Knot): Knot {
  const fields = knot.fields.flatMap((field) => {
    const mappings = Object.fromEntries(Object.entries(field.mappings).filter(([member]) => members.includes(member)));
    const steps = field.rule.steps.map((step) =>
      step.step === 'order' ? { ...step, members: step.members.filter((member) => members.includes(member)) } : step,
    );
    const isGiven = field.formula !== undefined || Object.values(mappings).some(({ direction }) => direction !== 'to');
    return isGiven ? [{ ...field, mappings, rule: { ...field.rule, steps } }] : [];
  });
  const { evidence: _, ...rest } = knot;
  return {
    ...rest,
    members: knot.members.filter(({ id }) => members.includes(id)),
    fields,
    keyRules: knot.keyRules.filter((rule) => rule.fields.every(({ field }) => fields.some(({ id }) => id === field))),
  };
}

/** Without a budget: tests are in a hurry, and those of budgets set their own. */
function unlimited({ budget: _, ...description }: Record<string, unknown>): HttpSystem {
  return httpSystemSchema.parse(description);
}

/** The demo's systems over real HTTP and a real database, with small data, for tests. */
export class RealInstallation {
  readonly key = randomBytes(32).toString('base64');
  readonly secret = `secret-${randomBytes(9).toString('hex')}`;
  readonly url: string;
  readonly parts: InstallationParts;
  readonly crm: FastifyInstance;
  readonly shop: FastifyInstance;
  readonly addresses: { readonly crm: string; readonly shop: string };
  readonly logged: string[] = [];
  #worker: { readonly worker: Worker; readonly done: Promise<void> } | undefined;

  private constructor(
    url: string,
    parts: InstallationParts,
    crm: FastifyInstance,
    shop: FastifyInstance,
    addresses: { crm: string; shop: string },
    secret: string,
    key: string,
  ) {
    this.url = url;
    this.parts = parts;
    this.crm = crm;
    this.shop = shop;
    this.addresses = addresses;
    this.secret = secret;
    this.key = key;
  }

  static async start(
    database: TestDatabase,
    data: CustomerData,
    options: {
      readonly crm?: Partial<CrmOptions>;
      readonly shop?: Partial<ShopOptions>;
      readonly prepare?: (crm: FastifyInstance, shop: FastifyInstance) => void;
      readonly timeoutMs?: number;
      readonly knot?: Knot;
      /** The server that takes mail. */
      readonly smtpUrl?: string;
    } = {},
  ): Promise<RealInstallation> {
    const { url } = await database.fresh();
    const secret = `secret-${randomBytes(9).toString('hex')}`;
    const key = randomBytes(32).toString('base64');
    const parts = await openInstallation({
      DATABASE_URL: url,
      SECRET_KEY: key,
      REACHABLE_NETWORKS: ['127.0.0.0/8'],
      FILE_FOLDERS: [tmpdir()],
      SMTP_URL: options.smtpUrl,
      MAIL_FROM: 'anchor-knot@hazelmoor.example',
      PUBLIC_ADDRESS: 'https://knots.hazelmoor.example',
    });
    const crm = await crmServer({ seed: data.accounts, clientId: 'id', clientSecret: secret, ...options.crm });
    const shop = await shopServer({
      seed: data.shoppers,
      key: 'id',
      secret,
      ...options.shop,
      faults: { callsPerSecond: 0, ...options.shop?.faults },
    });
    options.prepare?.(crm, shop);
    const addresses = {
      crm: await crm.listen({ host: '127.0.0.1', port: 0 }),
      shop: await shop.listen({ host: '127.0.0.1', port: 0 }),
    };
    const timeoutMs = options.timeoutMs ?? 5000;
    await parts.systems.save({
      id: 'fernhill',
      description: unlimited({ ...descriptions.fernhill, address: addresses.crm, timeoutMs }),
      pennant: { pattern: 'halves', colour: 'petrol', letters: 'FC' },
      credential: { id: 'id', secret },
    });
    await parts.systems.save({
      id: 'marketRow',
      description: unlimited({ ...descriptions.marketRow, address: addresses.shop, timeoutMs }),
      pennant: { pattern: 'saltire', colour: 'vermilion', letters: 'MR' },
      credential: { id: 'id', secret },
    });
    await parts.systems.save({
      id: 'counted',
      description: groupsSystemSchema.parse(descriptions.counted),
      pennant: { pattern: 'border', colour: 'plum', letters: 'CH' },
    });
    await parts.knots.create(options.knot ?? demoKnot, 'test');
    return new RealInstallation(url, parts, crm, shop, addresses, secret, key);
  }

  /** A worker in this process. */
  async startWorker(leaseMs = 20_000): Promise<void> {
    const log = pino({ level: 'debug' }, { write: (line: string) => void this.logged.push(line) });
    const worker = new Worker({
      ...this.parts,
      url: this.url,
      store: new PostgresStore(this.parts.data),
      log,
      leaseMs,
    });
    this.#worker = { worker, done: worker.work() };
  }

  /** Asks for a run, as a person does. @returns its id */
  ask(
    kind: RunJob['kind'] = 'run',
    more: Partial<Pick<RunJob, 'knot' | 'full' | 'overGuards' | 'members' | 'records'>> = {},
  ): Promise<string> {
    return this.parts.queue.send({
      knot: 'customers',
      kind,
      startedBy: 'test',
      cause: 'person',
      members: null,
      records: {},
      full: false,
      overGuards: false,
      ...more,
    });
  }

  async run(kind: 'run' | 'dry run' = 'run', more: Parameters<RealInstallation['ask']>[1] = {}): Promise<RunRow> {
    return this.ended(await this.ask(kind, more));
  }

  async ended(id: string, patienceMs = 60_000): Promise<RunRow> {
    for (const until = Date.now() + patienceMs; Date.now() < until; await wait(40)) {
      const row = await this.parts.data.getRepository(RunEntity).findOneBy({ id });
      if (row?.endedAt) return row;
    }
    throw new Error(`run ${id} did not end`);
  }

  async faults(which: 'crm' | 'shop', faults: Partial<Faults>): Promise<void> {
    await fetch(`${this.addresses[which]}/faults.json`, {
      method: 'PUT',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ ...noFaults, ...faults }),
    });
  }

  async decisions(): Promise<
    {
      kind: string;
      says: string;
      id: string;
      fingerprint: string;
      detail: never;
      member: string | null;
      record_key: string | null;
    }[]
  > {
    return this.parts.data.query(
      'select id, kind, says, fingerprint, detail, member, record_key from decision where closed_at is ' +
        'null order by id',
    );
  }

  async stopWorker(): Promise<void> {
    this.#worker?.worker.stop();
    await this.#worker?.done;
    this.#worker = undefined;
  }

  async stop(): Promise<void> {
    await this.stopWorker();
    await this.crm.close();
    await this.shop.close();
    await this.parts.close();
  }
}
