/** Starts one stand-in as a process of its own: `node main.js crm` or `node main.js shop`. Settings come from the environment. */
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { crmServer } from './crm/server.js';
import { demoCustomers, generateCustomers } from './generator/customers.js';
import { shopServer } from './shop/server.js';

const which = process.argv[2];
const folder = process.env.STANDIN_DATA ?? '.data/standins';
const port = Number(process.env.STANDIN_PORT ?? 0);
const id = process.env.STANDIN_ID ?? 'demo';
const secret = process.env.STANDIN_SECRET ?? 'demo';
const faults = process.env.STANDIN_FAULTS ? (JSON.parse(process.env.STANDIN_FAULTS) as Record<string, number | boolean>) : {};
const size = process.env.STANDIN_CUSTOMERS ? (JSON.parse(process.env.STANDIN_CUSTOMERS) as Partial<typeof demoCustomers>) : {};

mkdirSync(folder, { recursive: true });
const data = generateCustomers({ ...demoCustomers, ...size });
writeFileSync(join(folder, 'truth.json'), JSON.stringify(data.truth));
const dataFile = join(folder, `${which ?? 'unknown'}.jsonl`);
if (which !== 'crm' && which !== 'shop') throw new Error('say which stand-in to start: crm or shop');
const app =
  which === 'crm'
    ? await crmServer({ dataFile, seed: data.accounts, clientId: id, clientSecret: secret, faults })
    : await shopServer({ dataFile, seed: data.shoppers, key: id, secret, faults });
const stop = (): void => void app.close().then(() => process.exit(0));
process.on('SIGTERM', stop);
process.on('SIGINT', stop);
console.log(`listening on ${await app.listen({ host: '127.0.0.1', port })}`);
