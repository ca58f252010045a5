/** Invented edits on the real pages of a stand-in. */
import { setTimeout as wait } from 'node:timers/promises';
import { generateCustomers } from '../generator/customers.js';
import { seededRandom } from '../kit/faults.js';
import { shopServer } from '../shop/server.js';
import { visit } from './visitors.js';

test('one record after the other is edited, only where it is said, until it ends', async () => {
  const { shoppers } = generateCustomers({ seed: 5, inBoth: 6, onlyCrm: 0, onlyShop: 0, mess: false });
  const shop = await shopServer({ seed: shoppers, key: 'id', secret: 'secret', faults: { callsPerSecond: 0 } });
  const address = await shop.listen({ host: '127.0.0.1', port: 0 });
  const record = async (id: string) => (await fetch(`${address}/records/${id}`)).text();
  const before = await Promise.all(shoppers.map(({ id }) => record(id)));
  const ending = new AbortController();
  const visits = visit([{ address, town: 'city', street: 'address_line' }], seededRandom(3), 5, ending.signal);
  const changed = async () => {
    const now = await Promise.all(shoppers.map(({ id }) => record(id)));
    return now.filter((page, index) => page !== before[index]).length;
  };
  for (const end = Date.now() + 20_000; (await changed()) < 3 && Date.now() < end;) await wait(20);
  ending.abort();
  await visits;
  expect(await changed()).toBeGreaterThanOrEqual(3);
  for (const { id, mail } of shoppers) expect(await record(id)).toContain(mail ?? '');
  await shop.close();
});
