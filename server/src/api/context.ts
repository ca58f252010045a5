import type { DataSource } from 'typeorm';
import type { Knots } from '../knots/knots.js';
import type { Consents } from '../systems/consents.js';
import type { SystemObjects } from '../systems/objects.js';
import type { Systems } from '../systems/systems.js';
import type { WebhookInbox } from '../systems/webhooks.js';
import type { RunQueue } from '../worker/jobs.js';
import type { RunEvents } from '../runs/runEvents.js';

/** What the routes work with. */
export interface ApiContext {
  readonly data: DataSource;
  readonly knots: Knots;
  readonly systems: Systems;
  readonly objects: SystemObjects;
  readonly consents: Consents;
  readonly inbox: WebhookInbox;
  readonly queue: RunQueue;
  readonly events: RunEvents;
  /** Where people and other systems reach this installation; where it is not set, as the request does. */
  readonly publicAddress?: string | undefined;
}
