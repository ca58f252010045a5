import type { DataSource } from 'typeorm';
import { AddressFilter } from '@anchor-knot/connectors';
import { noSender, type Settings } from './configuration/settings.js';
import { Drafts } from './knots/drafts.js';
import { Knots } from './knots/knots.js';
import { Readings } from './knots/readings.js';
import { FollowUps } from './notices/followUps.js';
import { Notices } from './notices/notices.js';
import { Post } from './notices/sendMessages.js';
import { openDatabase } from './persistence/dataSource.js';
import { Consents } from './systems/consents.js';
import { SystemObjects } from './systems/objects.js';
import { SecretBox } from './systems/secretBox.js';
import { Systems } from './systems/systems.js';
import { WebhookInbox } from './systems/webhooks.js';
import { Scheduler } from './triggers/scheduler.js';
import { StartCalls } from './triggers/startCalls.js';
import { Timings } from './triggers/timings.js';
import { RunQueue } from './worker/jobs.js';

export interface InstallationParts {
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
  close(): Promise<void>;
}

/** What the web server and the worker have in common. */
export async function openInstallation(
  settings: Pick<Settings, 'DATABASE_URL' | 'SECRET_KEY' | 'REACHABLE_NETWORKS' | 'FILE_FOLDERS'> &
    Partial<Pick<Settings, 'SMTP_URL' | 'MAIL_FROM' | 'PUBLIC_ADDRESS' | 'HOST' | 'PORT'>>,
): Promise<InstallationParts> {
  const data = await openDatabase(settings.DATABASE_URL);
  const queue = await RunQueue.open(settings.DATABASE_URL, data);
  const database = new URL(settings.DATABASE_URL);
  const own = [{ host: database.hostname, port: Number(database.port || 5432) }];
  const secrets = new SecretBox(settings.SECRET_KEY);
  const addresses = new AddressFilter({ allowed: settings.REACHABLE_NETWORKS, own });
  const systems = new Systems(data, secrets, {
    addresses,
    folders: settings.FILE_FOLDERS,
  });
  const objects = new SystemObjects(data, systems);
  const knots = new Knots(data);
  const timings = new Timings(data);
  const post = new Post(data, secrets, { smtpUrl: settings.SMTP_URL, from: settings.MAIL_FROM ?? noSender, addresses });
  const scheduler = new Scheduler(data, knots, timings, queue, systems);
  const address = settings.PUBLIC_ADDRESS ?? `http://${settings.HOST ?? '127.0.0.1'}:${settings.PORT ?? 0}`;
  return {
    data,
    queue,
    knots,
    timings,
    scheduler,
    startCalls: new StartCalls(data, secrets, knots, scheduler),
    notices: new Notices({ data, knots, systems, timings, secrets, post, address }),
    followUps: new FollowUps({ data, knots, systems, address }),
    systems,
    drafts: new Drafts(data),
    readings: new Readings(data, systems, objects, knots),
    objects,
    consents: new Consents(data, secrets),
    inbox: new WebhookInbox(data, systems, secrets),
    close: async () => {
      post.close();
      await queue.close();
      await data.destroy();
    },
  };
}
