import { randomBytes } from 'node:crypto';
import type { DataSource } from 'typeorm';
import { v7 as uuid } from 'uuid';
import { DeliveryRefused, parseExactJson, Subscriptions, SystemTrouble, verifyDelivery } from '@anchor-knot/connectors';
import {
  calledObject,
  type Deliveries,
  type HttpSystem,
  systemSchema,
  type WebhookSubscription,
} from '@anchor-knot/contracts';
import type { SqlConnection } from '../persistence/sql.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import {
  addSubscription,
  countRefused,
  deliveriesOf,
  dropOldDeliveries,
  dropSubscription,
  findSubscription,
  noteCheck,
  noteRuns,
  subscriptionsOf,
  takeDelivery,
  takeDueCheck,
} from '../persistence/tables/webhooks.js';
import { readPath, scalarText } from '@anchor-knot/core';
import { tellsChanges } from './objects.js';
import { newSigningSecret, type SecretBox } from './secretBox.js';
import type { Systems } from './systems.js';

const deliveriesKept = 200;
const deliveriesShown = 100;
const longestId = 200;

/** Does what follows from a delivery. @returns the ids of runs */
export type Told = (
  db: SqlConnection,
  system: string,
  object: string,
  /** Of the record that was told of, where that alone is to be read. */
  key: string | undefined,
) => Promise<readonly string[]>;

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
    const rows = await subscriptionsOf(this.#data, systemId);
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

  async deliveries(subscription: string): Promise<Deliveries['deliveries']> {
    const deliveries = await deliveriesOf(this.#data, subscription, deliveriesShown);
    return deliveries.map(({ id, receivedAt, body, runs }) => ({
      id,
      receivedAt: receivedAt.toISOString(),
      body,
      runs: [...runs],
    }));
  }

  /** What tells of an object; of rows within records, what tells of these. */
  async subscriptionOf({ id, description }: SystemRow, object: string): Promise<WebhookSubscription | undefined> {
    const called = calledObject(description, object);
    return (await this.of(id)).find((subscription) => subscription.object === called);
  }

  /**
   * Subscribes to all events of an object. @param publicAddress of this installation, as the other system reaches it.
   * @throws {SystemTrouble}
   */
  async subscribe(row: SystemRow, named: string, publicAddress: string): Promise<void> {
    const object = calledObject(row.description, named);
    const id = uuid();
    const { webhooks } = httpOf(row);
    // The specification's own form of secrets, with its prefix; any other gets plain text.
    const secret =
      webhooks?.signature.kind === 'standard webhooks' ? newSigningSecret() : randomBytes(32).toString('base64url');
    const address = new URL(`/hooks/${id}`, publicAddress).href;
    const sealed = this.#secrets.seal(secret, `webhook ${id}`);
    await addSubscription(this.#data, { id, system_id: row.id, object, address, secret: sealed });
    await this.check(row);
    const state = await findSubscription(this.#data, id);
    if (!state || state.state === 'working') return;
    await dropSubscription(this.#data, { system: row.id, object });
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
    const known = await dropSubscription(this.#data, { system: row.id, object });
    const remoteId = known?.remoteId ?? undefined;
    if (remoteId !== undefined) await this.#with(row, (there) => there.remove(remoteId));
  }

  /** Compares what is subscribed here and there, and puts right what is missing or failing. */
  async check(row: SystemRow): Promise<void> {
    const mine = await subscriptionsOf(this.#data, row.id);
    if (mine.length === 0) return;
    const system = httpOf(row);
    try {
      await this.#with(row, async (there) => {
        const remote = await there.list();
        for (const subscription of mine) {
          const known = remote.find(
            ({ id, address }) => id === subscription.remote_id || address === subscription.address,
          );
          if (known?.active && known.address === subscription.address) {
            await noteCheck(this.#data, subscription.id, {
              state: 'working',
              words: subscription.words,
              remoteId: known.id,
            });
            continue;
          }
          if (known) await there.remove(known.id);
          const events = system.objects[subscription.object]?.events ?? [];
          const id = await there.register({
            address: subscription.address,
            secret: this.#secrets.open(subscription.secret, `webhook ${subscription.id}`),
            events,
          });
          const putRight = subscription.remote_id !== null;
          const words = putRight ? `It was ${known ? 'switched off' : 'gone'} there, and was made anew.` : null;
          await noteCheck(this.#data, subscription.id, { state: 'working', words, remoteId: id, putRight });
        }
      });
    } catch (error) {
      if (!(error instanceof SystemTrouble)) throw error;
      const words = `${error.message}. ${error.advice}`;
      for (const { id, remote_id } of mine)
        await noteCheck(this.#data, id, { state: remote_id === null ? 'missing' : 'unknown', words });
    }
  }

  /** Checks the subscriptions of all systems that have any; by one worker at a time. */
  async checkAll(): Promise<void> {
    const failed: unknown[] = [];
    for (const row of await this.#systems.all()) {
      if (!(await takeDueCheck(this.#data, row.id))) continue;
      // One that cannot be checked at all keeps no other from being checked.
      await this.check(row).catch((error: unknown) => failed.push(error));
    }
    await dropOldDeliveries(this.#data, deliveriesKept);
    if (failed.length > 0) throw new AggregateError(failed, `${failed.length} systems could not be checked`);
  }

  /**
   * Takes what a system delivers, if it is signed, was sent just now and was not seen before.
   * @param headers with names in small letters
   * @param told does what is to follow, in the transaction in which the delivery is kept, and gives the ids of runs
   * @returns `taken`, `seen before`, or why it is refused; `undefined` when there is no such subscription
   */
  async receive(
    id: string,
    headers: Readonly<Record<string, string | undefined>>,
    body: Buffer,
    told: Told,
  ): Promise<'taken' | 'seen before' | { refused: string } | undefined> {
    const row = await findSubscription(this.#data, id);
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
      const text = body.toString('utf8').replaceAll('\u0000', '');
      return await this.#data.transaction(async (db) => {
        const name = delivery.slice(0, longestId);
        if (!(await takeDelivery(db, id, name, text))) return 'seen before';
        await noteRuns(db, id, name, await told(db, row.system_id, row.object, keyTold(system, row.object, text)));
        return 'taken';
      });
    } catch (error) {
      if (!(error instanceof DeliveryRefused)) throw error;
      await countRefused(this.#data, id);
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

/**
 * The record that a delivery tells of, of a system that cannot say what changed: it would be listed whole for each. Of
 * others what changed is asked for, which trusts nothing that a delivery says.
 */
function keyTold(system: HttpSystem, object: string, body: string): string | undefined {
  const path = system.webhooks?.record;
  if (path === undefined || tellsChanges(system, object)) return undefined;
  try {
    return scalarText(readPath(parseExactJson(body), path)) || undefined;
  } catch {
    return undefined;
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
