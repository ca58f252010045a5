import { createHash, createHmac, timingSafeEqual } from 'node:crypto';
import { Webhook, WebhookVerificationError } from 'standardwebhooks';
import type { HttpSystem, Webhooks } from '@anchor-knot/contracts';
import { type Raw, readPath, scalarText, writePath } from '@anchor-knot/core';
import { SystemTrouble } from '../connector.js';
import { stringifyExactJson } from '../json/exactJson.js';
import { type Answer, Caller, type CallerDependencies, wordsOf } from './caller.js';

/** A subscription as the other system has it. */
export interface RemoteSubscription {
  readonly id: string;
  readonly address: string;
  readonly active: boolean;
}

/** The subscriptions that a system keeps for us. */
export class Subscriptions {
  readonly #name: string;
  readonly #webhooks: Webhooks;
  readonly #caller: Caller;

  constructor(system: HttpSystem, dependencies: CallerDependencies) {
    if (!system.webhooks) throw new Error(`${system.name} has no webhooks`);
    this.#name = system.name;
    this.#webhooks = system.webhooks;
    this.#caller = new Caller(system, dependencies);
  }

  async close(): Promise<void> {
    await this.#caller.close();
  }

  /** @throws {SystemTrouble} */
  async list(): Promise<RemoteSubscription[]> {
    const answer = await this.#caller.read({ method: 'GET', path: this.#webhooks.path });
    if (answer.status >= 400) throw this.#trouble(answer, 'tell its subscriptions');
    const items = this.#webhooks.items === '' ? answer.body : readPath(answer.body, this.#webhooks.items);
    if (!Array.isArray(items)) throw this.#trouble(answer, 'tell its subscriptions: there is no list in the answer');
    return (items as Raw[]).flatMap((item) => this.#read(item) ?? []);
  }

  /** @throws {SystemTrouble} */
  async register({
    address,
    secret,
    events,
  }: {
    readonly address: string;
    readonly secret: string;
    readonly events: readonly string[];
  }): Promise<string> {
    const webhooks = this.#webhooks;
    let body: Record<string, Raw> = {};
    for (const [path, value] of [
      [webhooks.address, address],
      [webhooks.secret, secret],
      [webhooks.events, [...events]],
    ] as const)
      body = writePath(body, path, value as Raw);
    const answer = await this.#caller.write({
      method: 'POST',
      path: webhooks.path,
      headers: { 'content-type': 'application/json' },
      body: stringifyExactJson(body),
    });
    if ('unknown' in answer) {
      // Whether it took effect, the list says.
      const made = (await this.list()).find((one) => one.address === address);
      if (made) return made.id;
      throw new SystemTrouble(
        'server error',
        `${this.#name} did not take the subscription: ${answer.unknown}`,
        'It is tried again.',
      );
    }
    if (answer.status >= 300) throw this.#trouble(answer, 'take the subscription');
    const made = this.#read(answer.body) ?? (await this.list()).find((one) => one.address === address);
    if (!made) throw this.#trouble(answer, 'say what the new subscription is called');
    return made.id;
  }

  /** One that is not there any more is removed already. @throws {SystemTrouble} */
  async remove(id: string): Promise<void> {
    const answer = await this.#caller.write({
      method: 'DELETE',
      path: `${this.#webhooks.path}/${encodeURIComponent(id)}`,
    });
    if (!('unknown' in answer) && answer.status >= 300 && answer.status !== 404 && answer.status !== 410)
      throw this.#trouble(answer, 'remove the subscription');
  }

  #read(item: Raw): RemoteSubscription | undefined {
    const { id, address, active } = this.#webhooks;
    const key = scalarText(readPath(item, id));
    if (!key) return undefined;
    return {
      id: key,
      address: String(readPath(item, address) ?? ''),
      active: active === undefined || String(readPath(item, active.field)) === active.value,
    };
  }

  #trouble(answer: Answer, what: string): SystemTrouble {
    return new SystemTrouble(
      'answer not understood',
      `${this.#name} did not ${what}: ${wordsOf(answer)}`,
      'See whether the account may manage webhooks, and how they are described.',
    );
  }
}

/** A delivery that is not taken, and why. */
export class DeliveryRefused extends Error {}

const windowMs = 5 * 60_000;

/**
 * Checks that a delivery comes from who knows the secret and was sent just now.
 * @param headers with names in small letters
 * @param body the raw bytes, as they were signed
 * @returns the id of the delivery: one that was seen before is a replay
 * @throws {DeliveryRefused}
 */
export function verifyDelivery(
  { signature }: Webhooks,
  secret: string,
  headers: Readonly<Record<string, string | undefined>>,
  body: Buffer,
  now: number,
): string {
  if (signature.kind === 'standard webhooks') {
    try {
      new Webhook(secret).verify(body, headers as Record<string, string>, { jsonParse: false });
    } catch (error) {
      if (error instanceof WebhookVerificationError) throw new DeliveryRefused(error.message);
      throw error;
    }
    return headers['webhook-id'] as string;
  }
  const given = headers[signature.header.toLowerCase()] ?? '';
  const time = signature.timeHeader === undefined ? undefined : (headers[signature.timeHeader.toLowerCase()] ?? '');
  const id = headers[signature.idHeader.toLowerCase()] ?? '';
  if (id === '' || time === '') throw new DeliveryRefused('a header is missing');
  const signed = createHmac('sha256', secret)
    .update(time === undefined ? '' : `${time}.`)
    .update(body)
    .digest();
  const theirs = Buffer.from(given.replace(/^sha256=/, ''), signature.encoding);
  if (theirs.length !== signed.length || !timingSafeEqual(theirs, signed))
    throw new DeliveryRefused('the signature is not right');
  if (time !== undefined) {
    const sentAt = /^\d+$/.test(time) ? Number(time) * 1000 : Date.parse(time);
    if (!(Math.abs(now - sentAt) <= windowMs)) throw new DeliveryRefused('it was not sent just now');
  } else {
    // Neither the id nor a time is signed: only the same body again can be told.
    return createHash('sha256').update(body).digest('hex');
  }
  return id;
}
