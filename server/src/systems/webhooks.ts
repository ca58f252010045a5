import { randomBytes } from 'node:crypto';
import type { DataSource } from 'typeorm';
import { v7 as uuid } from 'uuid';
import { DeliveryRefused, Subscriptions, SystemTrouble, verifyDelivery } from '@anchor-knot/connectors';
import { type HttpSystem, systemSchema, type WebhookSubscription } from '@anchor-knot/contracts';
import { SystemEntity, type SystemRow } from '../persistence/entities/entities.js';
import type { SecretBox } from './secretBox.js';
import type { Systems } from './systems.js';

const deliveriesKept = 200;

interface SubscriptionRow {
  readonly id: string;
  readonly system_id: string;
  readonly object: string;
  readonly address: string;
  readonly secret: Buffer;
  readonly remote_id: string | null;
  readonly state: WebhookSubscription['state'];
  readonly words: string | null;
  readonly checked_at: Date | null;
  readonly put_right: number;
  readonly received: string;
  readonly refused: string;
  readonly last_at: Date | null;
}

/** What systems tell by themselves: subscriptions there, kept in order, and what was delivered here. */
export class WebhookInbox {
  readonly #data: DataSource;
  readonly #systems: Systems;
  readonly #secrets: SecretBox;

  constructor(data: DataSource, systems: Systems, secrets: SecretBox) {
    this.#data = data;
    this.#systems = systems;
    this.#secrets = secrets;
  }

  async of(systemId: string): Promise<WebhookSubscription[]> {
    const rows = (await this.#data.query('select * from webhook_subscription where system_id = $1 order by object', [
      systemId,
    ])) as SubscriptionRow[];
    return rows.map((row) => ({
      id: row.id,
      object: row.object,
      address: row.address,
      state: row.state,
      words: row.words,
      checkedAt: row.checked_at?.toISOString() ?? null,
      putRight: row.put_right,
      received: Number(row.received),
      refused: Number(row.refused),
      lastAt: row.last_at?.toISOString() ?? null,
    }));
  }

  async deliveries(subscription: string): Promise<{ id: string; receivedAt: string; body: string }[]> {
    const rows = (await this.#data.query(
      'select delivery_id, received_at, body from webhook_delivery where subscription_id = $1 order by ' +
        'received_at desc limit 100',
      [subscription],
    )) as { delivery_id: string; received_at: Date; body: string }[];
    return rows.map(({ delivery_id, received_at, body }) => ({
      id: delivery_id,
      receivedAt: received_at.toISOString(),
      body,
    }));
  }

  /**
   * Subscribes to all events of an object. @param publicAddress of this installation, as the other system reaches it.
   * @throws {SystemTrouble}
   */
  async subscribe(row: SystemRow, object: string, publicAddress: string): Promise<void> {
    const id = uuid();
    const { webhooks } = httpOf(row);
    // The specification's own form of secrets, with its prefix; any other gets plain text.
    const secret =
      webhooks?.signature.kind === 'standard webhooks'
        ? `whsec_${randomBytes(32).toString('base64')}`
        : randomBytes(32).toString('base64url');
    await this.#data.query(
      `insert into webhook_subscription (id, system_id, object, address, secret, state) values ($1, $2, $3, $4, $5,
        'missing') on conflict do nothing`,
      [id, row.id, object, new URL(`/hooks/${id}`, publicAddress).href, this.#secrets.seal(secret, `webhook ${id}`)],
    );
    await this.check(row);
    const [state] = (await this.#data.query('select state, words from webhook_subscription where id = $1', [id])) as {
      state: string;
      words: string | null;
    }[];
    if (!state || state.state === 'working') return;
    await this.#data.query('delete from webhook_subscription where id = $1', [id]);
    throw new SystemTrouble(
      'answer not understood',
      state.words ?? `${row.name} does not have the subscription`,
      'See how its webhooks are described.',
    );
  }

  /**
   * Removes it there and here. @throws {SystemTrouble} when it cannot be removed there; it is forgotten here all the
   * same
   */
  async unsubscribe(row: SystemRow, object: string): Promise<void> {
    const [known] = (
      (await this.#data.query(
        'delete from webhook_subscription where system_id = $1 and object = $2 returning remote_id',
        [row.id, object],
      )) as [{ remote_id: string | null }[], number]
    )[0];
    if (known?.remote_id) await this.#with(row, (there) => there.remove(known.remote_id as string));
  }

  /** Compares what is subscribed here and there, and puts right what is missing or failing. */
  async check(row: SystemRow): Promise<void> {
    const mine = (await this.#data.query('select * from webhook_subscription where system_id = $1', [
      row.id,
    ])) as SubscriptionRow[];
    if (mine.length === 0) return;
    const system = httpOf(row);
    const note = (
      id: string,
      state: WebhookSubscription['state'],
      words: string | null,
      more = '',
      values: unknown[] = [],
    ) =>
      this.#data.query(
        `update webhook_subscription set state = $2, words = $3, checked_at = now() ${more} where id = $1`,
        [id, state, words, ...values],
      );
    try {
      await this.#with(row, async (there) => {
        const remote = await there.list();
        for (const one of mine) {
          const known = remote.find(({ id, address }) => id === one.remote_id || address === one.address);
          if (known?.active && known.address === one.address) {
            await note(one.id, 'working', one.words, ', remote_id = $4', [known.id]);
            continue;
          }
          if (known) await there.remove(known.id);
          const events = system.objects[one.object]?.events ?? [];
          const id = await there.register({
            address: one.address,
            secret: this.#secrets.open(one.secret, `webhook ${one.id}`),
            events,
          });
          const words =
            one.remote_id === null ? null : `It was ${known ? 'switched off' : 'gone'} there, and was made anew.`;
          await note(one.id, 'working', words, ', remote_id = $4, put_right = put_right + $5', [
            id,
            one.remote_id === null ? 0 : 1,
          ]);
        }
      });
    } catch (error) {
      if (!(error instanceof SystemTrouble)) throw error;
      for (const one of mine)
        await note(one.id, one.remote_id === null ? 'missing' : 'unknown', `${error.message}. ${error.advice}`);
    }
  }

  /** Checks the subscriptions of all systems that have any; by one worker at a time. */
  async checkAll(): Promise<void> {
    for (const row of await this.#data.getRepository(SystemEntity).find()) {
      const [due] = (
        (await this.#data.query(
          `update webhook_subscription set checked_at = now() where system_id = $1 and (checked_at is null
            or checked_at < now() - interval '1 minute') returning id`,
          [row.id],
        )) as [{ id: string }[], number]
      )[0];
      if (due) await this.check(row);
    }
    await this.#data.query(
      `delete from webhook_delivery d using (select subscription_id, delivery_id,
        row_number() over (partition by subscription_id order by received_at desc) as place from webhook_delivery) old
       where (d.subscription_id, d.delivery_id) = (old.subscription_id, old.delivery_id) and old.place > $1
         and d.received_at < now() - interval '1 hour'`,
      [deliveriesKept],
    );
  }

  /**
   * Takes what a system delivers, if it is signed, was sent just now and was not seen before.
   * @param headers with names in small letters
   * @returns `taken`, `seen before`, or why it is refused; `undefined` when there is no such subscription
   */
  async receive(
    id: string,
    headers: Readonly<Record<string, string | undefined>>,
    body: Buffer,
  ): Promise<'taken' | 'seen before' | { refused: string } | undefined> {
    const [row] = (await this.#data.query(
      'select s.*, y.description from webhook_subscription s join system y on y.id = s.system_id where s.id = $1',
      [id],
    )) as (SubscriptionRow & {
      description: unknown;
    })[];
    const system = row && systemSchema.parse(row.description);
    if (!row || system?.kind !== 'http' || !system.webhooks) return undefined;
    try {
      const delivery = verifyDelivery(
        system.webhooks,
        this.#secrets.open(row.secret, `webhook ${id}`),
        headers,
        body,
        Date.now(),
      );
      return await this.#data.transaction(async (db) => {
        const taken = (await db.query(
          'insert into webhook_delivery (subscription_id, delivery_id, body) values ($1, $2, $3) on conflict ' +
            'do nothing returning 1 as taken',
          [id, delivery.slice(0, 200), body.toString('utf8').replaceAll('\u0000', '')],
        )) as unknown[];
        if (taken.length === 0) return 'seen before';
        await db.query('update webhook_subscription set received = received + 1, last_at = now() where id = $1', [id]);
        return 'taken';
      });
    } catch (error) {
      if (!(error instanceof DeliveryRefused)) throw error;
      await this.#data.query('update webhook_subscription set refused = refused + 1 where id = $1', [id]);
      return { refused: error.message };
    }
  }

  async #with<T>(row: SystemRow, work: (there: Subscriptions) => Promise<T>): Promise<T> {
    const there = new Subscriptions(httpOf(row), this.#systems.dependencies(row));
    try {
      return await work(there);
    } finally {
      await there.close().catch(() => undefined);
    }
  }
}

function httpOf(row: SystemRow): HttpSystem {
  const system = systemSchema.parse(row.description);
  if (system.kind !== 'http' || !system.webhooks)
    throw new SystemTrouble(
      'not allowed',
      `${row.name} has no webhooks`,
      'Describe how its webhooks are subscribed to.',
    );
  return system;
}
