import type { WebhookSubscription } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** Subscriptions to what systems tell by themselves, and what they delivered. */

export interface SubscriptionRow {
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

export async function subscriptionsOf(db: SqlConnection, system: string): Promise<readonly SubscriptionRow[]> {
  return (await db.query('select * from webhook_subscription where system_id = $1 order by object', [
    system,
  ])) as SubscriptionRow[];
}

/** A subscription, with the description of its system. */
export async function findSubscription(
  db: SqlConnection,
  id: string,
): Promise<(SubscriptionRow & { readonly description: unknown }) | undefined> {
  const [row] = (await db.query(
    'select s.*, y.description from webhook_subscription s join system y on y.id = s.system_id where s.id = $1',
    [id],
  )) as (SubscriptionRow & { description: unknown })[];
  return row;
}

/** Notes a subscription that is to be made there. One of the same object stays as it is. */
export async function addSubscription(
  db: SqlConnection,
  {
    id,
    system_id,
    object,
    address,
    secret,
  }: Pick<SubscriptionRow, 'id' | 'system_id' | 'object' | 'address' | 'secret'>,
): Promise<void> {
  await db.query(
    `insert into webhook_subscription (id, system_id, object, address, secret, state)
     values ($1, $2, $3, $4, $5, 'missing') on conflict do nothing`,
    [id, system_id, object, address, secret],
  );
}

/** @returns those that were, with their ids there */
export async function dropSubscription(
  db: SqlConnection,
  { system, object }: { readonly system: string; readonly object: string },
): Promise<{ readonly remoteId: string | null } | undefined> {
  const [[row]] = (await db.query(
    'delete from webhook_subscription where system_id = $1 and object = $2 returning remote_id as "remoteId"',
    [system, object],
  )) as [{ remoteId: string | null }[], number];
  return row;
}

export interface SubscriptionCheck {
  readonly state: WebhookSubscription['state'];
  readonly words: string | null;
  /** What it is called there; as it was, where left out. */
  readonly remoteId?: string;
  /** Whether it was gone or switched off there, and is made anew. */
  readonly putRight?: boolean;
}

/** Keeps how a subscription was found just now. */
export async function noteCheck(
  db: SqlConnection,
  id: string,
  { state, words, remoteId, putRight = false }: SubscriptionCheck,
): Promise<void> {
  await db.query(
    `update webhook_subscription set state = $2, words = $3, checked_at = now(), remote_id = coalesce($4, remote_id),
       put_right = put_right + $5 where id = $1`,
    [id, state, words, remoteId ?? null, putRight ? 1 : 0],
  );
}

/** Whether subscriptions of a system are to be checked; who asks does it, and nobody else for a minute. */
export async function takeDueCheck(db: SqlConnection, system: string): Promise<boolean> {
  const [rows] = (await db.query(
    `update webhook_subscription set checked_at = now() where system_id = $1
       and (checked_at is null or checked_at < now() - interval '1 minute') returning id`,
    [system],
  )) as [{ id: string }[], number];
  return rows.length > 0;
}

export interface Delivery {
  readonly id: string;
  readonly receivedAt: Date;
  readonly body: string;
  /** Of the runs that it started, or joined. */
  readonly runs: readonly string[];
}

/** The last deliveries of a subscription, newest first. */
export async function deliveriesOf(
  db: SqlConnection,
  subscription: string,
  limit: number,
): Promise<readonly Delivery[]> {
  return (await db.query(
    `select delivery_id as id, received_at as "receivedAt", body, runs from webhook_delivery where subscription_id = $1
     order by received_at desc limit $2`,
    [subscription, limit],
  )) as Delivery[];
}

/** Takes a delivery, and counts it. @returns false where one of that id was taken before */
export async function takeDelivery(
  db: SqlConnection,
  subscription: string,
  delivery: string,
  body: string,
): Promise<boolean> {
  const taken = (await db.query(
    `insert into webhook_delivery (subscription_id, delivery_id, body) values ($1, $2, $3)
     on conflict do nothing returning 1 as taken`,
    [subscription, delivery, body],
  )) as unknown[];
  if (taken.length === 0) return false;
  await db.query('update webhook_subscription set received = received + 1, last_at = now() where id = $1', [
    subscription,
  ]);
  return true;
}

export interface Hearing {
  readonly system: string;
  readonly object: string;
  readonly lastAt: Date | null;
}

/** What systems tell of by themselves, and when they did last. What happens to rows is told of their record. */
export async function workingSubscriptions(db: SqlConnection): Promise<readonly Hearing[]> {
  return (await db.query(
    `with heard as (select system_id, object, last_at from webhook_subscription where state = 'working')
     select system_id as system, object, last_at as "lastAt" from heard
     union all
     select h.system_id, rows.name, h.last_at from heard h join system s on s.id = h.system_id
       cross join lateral json_each(coalesce(s.description -> 'rows', '{}')) as rows (name, said)
     where rows.said ->> 'of' = h.object`,
  )) as Hearing[];
}

/** Keeps what a delivery led to. */
export async function noteRuns(
  db: SqlConnection,
  subscription: string,
  delivery: string,
  runs: readonly string[],
): Promise<void> {
  await db.query('update webhook_delivery set runs = $3 where subscription_id = $1 and delivery_id = $2', [
    subscription,
    delivery,
    runs,
  ]);
}

export async function countRefused(db: SqlConnection, subscription: string): Promise<void> {
  await db.query('update webhook_subscription set refused = refused + 1 where id = $1', [subscription]);
}

/** Forgets deliveries that are older than an hour, but for the last of each subscription. */
export async function dropOldDeliveries(db: SqlConnection, kept: number): Promise<void> {
  await db.query(
    `delete from webhook_delivery d using (select subscription_id, delivery_id,
       row_number() over (partition by subscription_id order by received_at desc) as place from webhook_delivery) old
     where (d.subscription_id, d.delivery_id) = (old.subscription_id, old.delivery_id) and old.place > $1
       and d.received_at < now() - interval '1 hour'`,
    [kept],
  );
}
