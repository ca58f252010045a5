/** The web server as a process: `node serverProcess.js`. */
import { makeApp } from './api/app.js';
import { makeLog } from './configuration/log.js';
import { readSettings } from './configuration/settings.js';
import { openInstallation } from './installationParts.js';
import { ServerEvents } from './api/serverEvents.js';

const settings = readSettings(process.env);
const log = makeLog(settings.LOG_LEVEL, 'server');
const parts = await openInstallation(settings);
const events = new ServerEvents(settings.DATABASE_URL, parts.data);
await events.open();
const app = await makeApp({ ...parts, events, publicAddress: settings.PUBLIC_ADDRESS }, settings, log);
let stopping = false;
const stop = async (): Promise<void> => {
  if (stopping) return;
  stopping = true;
  await app.close();
  await events.close();
  await parts.close();
  process.exit(0);
};
process.on('SIGTERM', () => void stop());
process.on('SIGINT', () => void stop());
log.info({ address: await app.listen({ host: settings.HOST, port: settings.PORT }) }, 'listening');
// Whoever started it may be gone by now.
if (process.connected) process.send?.('ready');
