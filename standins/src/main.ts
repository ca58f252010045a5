/**
 * Starts one stand-in as a process of its own: `node main.js crm`, `shop`, `desk`, `boards`, `erp`, `granary`, `bay` or
 * `post`. Settings come from the environment.
 */
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { FastifyInstance } from 'fastify';
import { bayServer } from './bay/server.js';
import { boardsServer } from './boards/server.js';
import { crmServer } from './crm/server.js';
import { deskServer } from './desk/server.js';
import { openErpDatabase } from './erp/database.js';
import { erpServer } from './erp/server.js';
import { generateBusiness } from './generator/business.js';
import { demoCustomers, generateCustomers } from './generator/customers.js';
import { generatePartners } from './generator/partners.js';
import { generateSales } from './generator/sales.js';
import { generateWork } from './generator/work.js';
import { granaryServer, openGranaryDatabase } from './granary/server.js';
import { postServer } from './post/server.js';
import { shopServer } from './shop/server.js';

const which = process.argv[2] ?? '';
const folder = process.env.STANDIN_DATA ?? '.data/standins';
const port = Number(process.env.STANDIN_PORT ?? 0);
const id = process.env.STANDIN_ID ?? 'demo';
const secret = process.env.STANDIN_SECRET ?? 'demo';
const databaseUrl = process.env.STANDIN_DATABASE_URL ?? '';
const faults = process.env.STANDIN_FAULTS
  ? (JSON.parse(process.env.STANDIN_FAULTS) as Record<string, number | boolean>)
  : {};
const size = process.env.STANDIN_CUSTOMERS
  ? (JSON.parse(process.env.STANDIN_CUSTOMERS) as Partial<typeof demoCustomers>)
  : {};

mkdirSync(folder, { recursive: true });
const data = generateCustomers({ ...demoCustomers, ...size });
const business = () => generateBusiness(data, { seed: demoCustomers.seed, documents: 2400, mess: true });
const work = () => generateWork(data, { seed: demoCustomers.seed, tickets: 300, projects: 30, tasksEach: 10 });
const sales = () => generateSales(data, business(), demoCustomers.seed);
const dataFile = join(folder, `${which}.jsonl`);

const starts: Readonly<Record<string, () => Promise<FastifyInstance>>> = {
  crm: () => crmServer({ dataFile, seed: data.accounts, ...sales(), clientId: id, clientSecret: secret, faults }),
  shop: () => shopServer({ dataFile, seed: data.shoppers, orders: sales().orders, key: id, secret, faults }),
  desk: () => deskServer({ dataFile, ...work(), token: secret, faults }),
  boards: () => boardsServer({ dataFile, rows: work().rows, key: secret, faults }),
  erp: async () => erpServer({ pool: await openErpDatabase(databaseUrl, secret, business), secret, faults }),
  bay: () =>
    bayServer({
      folder: process.env.STANDIN_FOLDER ?? join(folder, 'loading-bay'),
      seed: () => generatePartners(business(), demoCustomers.seed),
    }),
  post: async () => (await postServer({ dataFile, smtpPort: Number(process.env.STANDIN_SMTP_PORT ?? 0) })).app,
  granary: async () => granaryServer({ pool: await openGranaryDatabase(databaseUrl, secret, business) }),
};
const start = starts[which];
if (!start) throw new Error(`say which stand-in to start: ${Object.keys(starts).join(', ')}`);
if (which === 'crm') {
  const debtorsOf = byCustomer(business().debtors);
  const requestersOf = byCustomer(work().requesters);
  const truth = data.truth.map((one) => ({
    ...one,
    erp: (debtorsOf.get(one.customer) ?? []).map(({ number }) => number),
    desk: (requestersOf.get(one.customer) ?? []).map(({ id: requester }) => requester),
  }));
  writeFileSync(join(folder, 'truth.json'), JSON.stringify(truth));
}
const app = await start();
const stop = (): void => void app.close().then(() => process.exit(0));
process.on('SIGTERM', stop);
process.on('SIGINT', stop);
console.log(`listening on ${await app.listen({ host: '127.0.0.1', port })}`);

function byCustomer<T extends { readonly customer: string | undefined }>(records: readonly T[]): Map<string, T[]> {
  const groups = new Map<string, T[]>();
  for (const record of records)
    if (record.customer !== undefined) groups.set(record.customer, [...(groups.get(record.customer) ?? []), record]);
  return groups;
}
