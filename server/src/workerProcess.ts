/** A worker as a process: `node workerProcess.js`. Any number of them may run. */
import { makeLog } from './configuration/log.js';
import { readSettings } from './configuration/settings.js';
import { openInstallation } from './installationParts.js';
import { PostgresStore } from './persistence/postgresStore.js';
import { Worker } from './worker/worker.js';

const settings = readSettings(process.env);
const log = makeLog(settings.LOG_LEVEL, 'worker');
const parts = await openInstallation(settings);
const worker = new Worker({
  ...parts,
  url: settings.DATABASE_URL,
  store: new PostgresStore(parts.data),
  log,
  leaseMs: settings.LEASE_SECONDS * 1000,
  batchSize: settings.BATCH_SIZE,
});
process.on('SIGTERM', () => worker.stop());
process.on('SIGINT', () => worker.stop());
log.info('working');
// Whoever started it may be gone by now.
if (process.connected) process.send?.('ready');
await worker.work();
await parts.close();
process.exit(0);
