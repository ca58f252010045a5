import type { Logger } from 'pino';
import type { DataSource } from 'typeorm';
import type { Knots } from '../knots/knots.js';
import type { PostgresStore } from '../persistence/postgresStore.js';
import type { FollowUps } from '../notices/followUps.js';
import type { Notices } from '../notices/notices.js';
import type { SystemObjects } from '../systems/objects.js';
import type { Systems } from '../systems/systems.js';
import type { WebhookInbox } from '../systems/webhooks.js';
import type { Scheduler } from '../triggers/scheduler.js';
import type { Timings } from '../triggers/timings.js';
import type { RunQueue } from './jobs.js';

/** What a worker works with. */
export interface WorkerParts {
  readonly url: string;
  readonly data: DataSource;
  readonly store: PostgresStore;
  readonly knots: Knots;
  readonly systems: Systems;
  readonly objects: SystemObjects;
  readonly inbox: WebhookInbox;
  readonly queue: RunQueue;
  readonly scheduler: Scheduler;
  readonly timings: Timings;
  readonly notices: Notices;
  readonly followUps: FollowUps;
  readonly log: Logger;
  readonly leaseMs: number;
  /** How many anchors a part of a run has. */
  readonly batchSize?: number | undefined;
}
