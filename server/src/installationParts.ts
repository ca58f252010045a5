import type { DataSource } from 'typeorm';
import type { Settings } from './configuration/settings.js';
import { Knots } from './knots/knots.js';
import { openDatabase } from './persistence/dataSource.js';
import { SecretBox } from './systems/secretBox.js';
import { Systems } from './systems/systems.js';
import { RunQueue } from './worker/jobs.js';

export interface InstallationParts {
  readonly data: DataSource;
  readonly knots: Knots;
  readonly systems: Systems;
  readonly queue: RunQueue;
  close(): Promise<void>;
}

/** What the web server and the worker have in common. */
export async function openInstallation(settings: Pick<Settings, 'DATABASE_URL' | 'SECRET_KEY'>): Promise<InstallationParts> {
  const data = await openDatabase(settings.DATABASE_URL);
  const queue = await RunQueue.open(settings.DATABASE_URL, data);
  return {
    data,
    queue,
    knots: new Knots(data),
    systems: new Systems(data, new SecretBox(settings.SECRET_KEY)),
    close: async () => {
      await queue.close();
      await data.destroy();
    },
  };
}
