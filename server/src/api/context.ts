import type { DataSource } from 'typeorm';
import type { Knots } from '../knots/knots.js';
import type { SystemObjects } from '../systems/objects.js';
import type { Systems } from '../systems/systems.js';
import type { RunQueue } from '../worker/jobs.js';
import type { RunEvents } from '../runs/runEvents.js';

/** What the routes work with. */
export interface ApiContext {
  readonly data: DataSource;
  readonly knots: Knots;
  readonly systems: Systems;
  readonly objects: SystemObjects;
  readonly queue: RunQueue;
  readonly events: RunEvents;
}
