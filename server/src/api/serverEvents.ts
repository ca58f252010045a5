import { EventEmitter } from 'node:events';
import type { DataSource } from 'typeorm';
import { draftEventSchema, type ServerEvent } from '@anchor-knot/contracts';
import { draftChannel, runChannel } from '../persistence/channels.js';
import { listen, type Listener } from '../persistence/listener.js';
import { findRun } from '../persistence/tables/runLists.js';
import { runSummary } from '../views/summaries.js';

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
  #listener: Listener | undefined;
  #closed = false;

  constructor(url: string, data: DataSource) {
    this.#url = url;
    this.#data = data;
  }

  async open(): Promise<void> {
    this.#listener = await listen(
      this.#url,
      'anchor-knot-events',
      [runChannel, draftChannel],
      (channel, payload) => {
        if (channel === draftChannel) this.#drafted(payload);
        else this.#changed(payload);
      },
      () => this.#reopen(),
    );
  }

  /** @returns a function that ends the subscription */
  subscribe(listener: (event: ServerEvent) => void): () => void {
    this.#emitter.on('event', listener);
    return () => void this.#emitter.off('event', listener);
  }

  async close(): Promise<void> {
    this.#closed = true;
    for (const timer of this.#pending.values()) clearTimeout(timer);
    await this.#listener?.close();
  }

  #reopen(): void {
    if (this.#closed) return;
    this.#listener = undefined;
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
    const row = await findRun(this.#data, id);
    if (row) this.#emitter.emit('event', { kind: 'run', run: runSummary(row) } satisfies ServerEvent);
  }
}
