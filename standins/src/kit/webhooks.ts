import { createHmac, randomUUID } from 'node:crypto';
import { setTimeout as wait } from 'node:timers/promises';
import type { FastifyInstance } from 'fastify';
import { Webhook } from 'standardwebhooks';
import { addPage, escapeHtml, page, table, tableRow } from './pages.js';
import { RecordLog } from './recordLog.js';

interface Subscription {
  readonly id: string;
  readonly url: string;
  readonly secret: string;
  readonly events: readonly string[];
  readonly state: 'on' | 'off';
  readonly failed: number;
}

export interface WebhooksOptions {
  /** Of the system. */
  readonly name: string;
  readonly dataFile?: string | undefined;
  /**
   * `standard`: the Standard Webhooks specification. `plain`: HMAC-SHA256 of the body in headers of the system's own.
   */
  readonly style: 'standard' | 'plain';
  readonly events: readonly string[];
}

const triesMs = [0, 300, 1500];
/** A subscription whose deliveries failed so often in a row is switched off. */
const mostFailed = 3;

/** Tells others what happens in a stand-in. */
export class Webhooks {
  readonly #options: WebhooksOptions;
  readonly #subscriptions: RecordLog<Subscription>;

  constructor(options: WebhooksOptions) {
    this.#options = options;
    this.#subscriptions = new RecordLog(options.dataFile === undefined ? undefined : `${options.dataFile}.webhooks`);
  }

  #all(): Subscription[] {
    return this.#subscriptions.all();
  }

  /** The routes with which other programs keep their subscriptions. */
  register(api: FastifyInstance, path: string): void {
    const shown = ({ secret: _, ...rest }: Subscription) => rest;
    api.get(path, async () => ({ webhooks: this.#all().map(shown) }));
    api.post(path, async (request, reply) => {
      const { url, secret, events } = (request.body ?? {}) as { url?: unknown; secret?: unknown; events?: unknown };
      const wrong =
        typeof url !== 'string' || !/^https?:/.test(url)
          ? 'url must be an address'
          : typeof secret !== 'string' || secret.length < 16
            ? 'secret is too short'
            : !Array.isArray(events) ||
                events.length === 0 ||
                !events.every((event) => this.#options.events.includes(event as string))
              ? `events must be some of ${this.#options.events.join(', ')}`
              : undefined;
      if (wrong) return reply.code(422).send({ error: wrong });
      const made: Subscription = {
        id: randomUUID().slice(0, 8),
        url: url as string,
        secret: secret as string,
        events: events as string[],
        state: 'on',
        failed: 0,
      };
      this.#subscriptions.put(made);
      return reply.code(201).send(shown(made));
    });
    api.delete(`${path}/:id`, async (request, reply) => {
      const known = this.#all().find(({ id }) => id === (request.params as { id: string }).id);
      if (!known) return reply.code(404).send({ error: 'there is no such webhook' });
      this.#subscriptions.remove(known.id);
      return reply.code(204).send();
    });
  }

  /** A page on which people see the subscriptions, and break them. */
  registerPage(app: FastifyInstance): void {
    addPage(this.#options.name, '/webhooks', 'Webhooks');
    app.get('/webhooks', async (_, reply) => {
      const rows = this.#all().map(({ id, url, events, state, failed }) => {
        const form = `<form method="post" action="/webhooks/${escapeHtml(id)}"><button name="do"
          value="off">Switch off</button> <button name="do" value="remove">Remove</button></form>`;
        const shown = [id, url, events.join(', '), `${state}, ${failed} failed`].map(escapeHtml);
        return tableRow([...shown, form]);
      });
      return reply
        .type('text/html')
        .send(
          page(
            this.#options.name,
            'Webhooks',
            rows.length > 0 ? table(['Id', 'Address', 'Events', 'State', ''], rows) : '<p>Nobody has subscribed.</p>',
          ),
        );
    });
    app.post('/webhooks/:id', async (request, reply) => {
      const known = this.#all().find(({ id }) => id === (request.params as { id: string }).id);
      const wanted = (request.body as { do?: string }).do;
      if (known && wanted === 'remove') this.#subscriptions.remove(known.id);
      else if (known) this.#subscriptions.put({ ...known, state: 'off' });
      return reply.redirect('/webhooks');
    });
  }

  emit(event: string, data: object): void {
    for (const one of this.#all())
      if (one.state === 'on' && one.events.includes(event)) void this.#deliver(one.id, event, data);
  }

  async #deliver(id: string, event: string, data: object): Promise<void> {
    const sentAt = new Date();
    const delivery = `msg_${randomUUID()}`;
    const body = JSON.stringify({ type: event, timestamp: sentAt.toISOString(), data });
    for (const pauseMs of triesMs) {
      if (pauseMs > 0) await wait(pauseMs, undefined, { ref: false });
      const one = this.#all().find((subscription) => subscription.id === id);
      if (!one || one.state === 'off') return;
      const headers =
        this.#options.style === 'standard'
          ? {
              'webhook-id': delivery,
              'webhook-timestamp': String(Math.floor(sentAt.getTime() / 1000)),
              'webhook-signature': new Webhook(one.secret).sign(delivery, sentAt, body),
            }
          : { 'x-delivery': delivery, 'x-signature': createHmac('sha256', one.secret).update(body).digest('hex') };
      const ok = await fetch(one.url, {
        method: 'POST',
        headers: { 'content-type': 'application/json', ...headers },
        body,
        signal: AbortSignal.timeout(5000),
      }).then(
        (answer) => answer.ok,
        () => false,
      );
      if (ok) {
        if (one.failed > 0) this.#subscriptions.put({ ...one, failed: 0 });
        return;
      }
    }
    const one = this.#all().find((subscription) => subscription.id === id);
    if (one)
      this.#subscriptions.put({ ...one, failed: one.failed + 1, state: one.failed + 1 >= mostFailed ? 'off' : 'on' });
  }
}
