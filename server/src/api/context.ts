import type { FastifyRequest } from 'fastify';
import type { DataSource } from 'typeorm';
import type { Drafts } from '../knots/drafts.js';
import type { Knots } from '../knots/knots.js';
import type { Readings } from '../knots/readings.js';
import type { FollowUps } from '../notices/followUps.js';
import type { Notices } from '../notices/notices.js';
import type { Consents } from '../systems/consents.js';
import type { SystemObjects } from '../systems/objects.js';
import type { Systems } from '../systems/systems.js';
import type { WebhookInbox } from '../systems/webhooks.js';
import type { Scheduler } from '../triggers/scheduler.js';
import type { StartCalls } from '../triggers/startCalls.js';
import type { Timings } from '../triggers/timings.js';
import type { RunQueue } from '../worker/jobs.js';
import type { ServerEvents } from '../api/serverEvents.js';

/** What the routes work with. */
export interface ApiContext {
  readonly data: DataSource;
  readonly knots: Knots;
  readonly drafts: Drafts;
  readonly readings: Readings;
  readonly systems: Systems;
  readonly objects: SystemObjects;
  readonly consents: Consents;
  readonly inbox: WebhookInbox;
  readonly queue: RunQueue;
  readonly timings: Timings;
  readonly scheduler: Scheduler;
  readonly notices: Notices;
  readonly followUps: FollowUps;
  readonly startCalls: StartCalls;
  readonly events: ServerEvents;
  /** Where people and other systems reach this installation; where it is not set, as the request does. */
  readonly publicAddress?: string | undefined;
}

/** Where other systems reach this installation. */
export function publicAddressOf({ publicAddress }: ApiContext, request: FastifyRequest): string {
  return publicAddress ?? `${request.protocol}://${request.host}`;
}
