import { EventEmitter } from 'node:events';
import { Client } from 'pg';
import type { DataSource } from 'typeorm';
import { draftEventSchema, type ServerEvent } from '@anchor-knot/contracts';
import { draftChannel } from '../knots/drafts.js';
import { RunEntity } from '../persistence/entities/entities.js';
import { runSummary } from '../views/summaries.js';
import { runChannel } from '../worker/jobs.js';

const gatherMs = 150;

/**
 * Tells about runs as they change, whichever worker drives them (PostgreSQL's notifications, gathered a little), and
 * about
 * drafts as they are kept, whichever server was asked.
 */
export class ServerEvents {
  readonly #emitter = new EventEmitter().setMaxListeners(0);
  readonly #data: DataSource;
  readonly #url: string;
  readonly #pending = new Map<string, NodeJS.Timeout>();
  #client: Client | undefined;
  #closed = false;

  constructor(url: string, data: DataSource) {
    this.#url = url;
    this.#data = data;
  }

  async open(): Promise<void> {
    const client = new Client({ connectionString: this.#url, application_name: 'anchor-knot-events' });
    client.on(
      'notification',
      ({ channel, payload }) => payload && (channel === draftChannel ? this.#drafted(payload) : this.#changed(payload)),
    );
    client.on('error', () => this.#reopen());
    client.on('end', () => this.#reopen());
    await client.connect();
    await client.query(`listen ${runChannel}; listen ${draftChannel}`);
    this.#client = client;
  }

  /** @returns a function that ends the subscription */
  subscribe(listener: (event: ServerEvent) => void): () => void {
    this.#emitter.on('event', listener);
    return () => void this.#emitter.off('event', listener);
  }

  async close(): Promise<void> {
    this.#closed = true;
    for (const timer of this.#pending.values()) clearTimeout(timer);
    await this.#client?.end().catch(() => undefined);
  }

  #reopen(): void {
    if (this.#closed || !this.#client) return;
    this.#client = undefined;
    setTimeout(() => void this.open().catch(() => this.#reopen()), 1000).unref();
  }

  #drafted(payload: string): void {
    this.#emitter.emit('event', draftEventSchema.parse(JSON.parse(payload)));
  }

  #changed(id: string): void {
    if (this.#pending.has(id)) return;
    this.#pending.set(
      id,
      setTimeout(() => void this.#tell(id).catch(() => undefined), gatherMs),
    );
  }

  async #tell(id: string): Promise<void> {
    this.#pending.delete(id);
    const row = await this.#data.getRepository(RunEntity).findOneBy({ id });
    if (row) this.#emitter.emit('event', { kind: 'run', run: runSummary(row) } satisfies ServerEvent);
  }
}
