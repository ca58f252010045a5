/** The folder that receives files: as others write them, edited and broken on its page, and nothing outside it. */
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { FastifyInstance } from 'fastify';
import iconv from 'iconv-lite';
import { generateBusiness } from '../generator/business.js';
import { generateCustomers } from '../generator/customers.js';
import { generatePartners } from '../generator/partners.js';
import { bayServer } from './server.js';

const seed = () =>
  generatePartners(
    generateBusiness(generateCustomers({ seed: 1, inBoth: 5, onlyCrm: 0, onlyShop: 0, mess: false }), {
      seed: 1,
      documents: 5,
      mess: false,
    }),
    1,
  );
let parent: string;
let folder: string;
let app: FastifyInstance;
let address: string;
beforeEach(async () => {
  parent = mkdtempSync(join(tmpdir(), 'loading-bay-'));
  folder = join(parent, 'bay');
  app = await bayServer({ folder, seed });
  address = await app.listen({ host: '127.0.0.1', port: 0 });
});
afterEach(async () => {
  await app.close();
  rmSync(parent, { recursive: true, force: true });
});
const post = (path: string, form: Record<string, string>) =>
  fetch(`${address}${path}`, { method: 'POST', body: new URLSearchParams(form), redirect: 'manual' });

test('it is filled once, in several forms, and left as it is afterwards', async () => {
  expect(readdirSync(folder).sort()).toEqual(['leads', 'partner-prices.xlsx', 'partners.csv', 'visits.jsonl']);
  expect(readdirSync(join(folder, 'leads'))).toHaveLength(3);
  writeFileSync(join(folder, 'visits.jsonl'), '{"id":1}\n');
  await app.close();
  app = await bayServer({ folder, seed });
  address = await app.listen({ host: '127.0.0.1', port: 0 });
  expect(readFileSync(join(folder, 'visits.jsonl'), 'utf8')).toBe('{"id":1}\n');
});

test('a file is shown and edited in the encoding that it is in', async () => {
  await post('/file', { path: 'partners.csv', text: 'Nummer;Firma\r\nPA-1;Müller & Söhne\r\n' });
  expect(iconv.decode(readFileSync(join(folder, 'partners.csv')), 'windows-1252')).toBe(
    'Nummer;Firma\nPA-1;Müller & Söhne\n',
  );
  expect(readFileSync(join(folder, 'partners.csv')).includes(Buffer.from('ü', 'utf8'))).toBe(false);
  expect(await (await fetch(`${address}/file?path=partners.csv`)).text()).toContain('Müller &amp; Söhne');
  await post('/file', { path: 'leads/by-hand.csv', text: 'id\nL-1\n' });
  expect(readFileSync(join(folder, 'leads/by-hand.csv'), 'utf8')).toBe('id\nL-1\n');
});

test.each(['../outside.csv', 'leads/../../outside.csv', '/etc/hosts', 'deeper/x.csv', '.hidden', ''])(
  'nothing is read or written at “%s”',
  async (path) => {
    writeFileSync(join(parent, 'outside.csv'), 'secret');
    expect((await fetch(`${address}/file?path=${encodeURIComponent(path)}`)).status).toBe(404);
    await post('/file', { path, text: 'overwritten' });
    expect(readFileSync(join(parent, 'outside.csv'), 'utf8')).toBe('secret');
    expect([existsSync(join(folder, '.hidden')), existsSync(join(folder, 'deeper'))]).toEqual([false, false]);
  },
);

test('broken deliveries are made and tidied away by buttons', async () => {
  await post('/faults', { do: 'bad rows' });
  await post('/faults', { do: 'half' });
  expect(readdirSync(join(folder, 'leads'))).toEqual(
    expect.arrayContaining(['leads-broken.csv', 'leads-unfinished.csv.part']),
  );
  await post('/faults', { do: 'tidy' });
  expect(readdirSync(join(folder, 'leads'))).toHaveLength(3);
});
