import { spawn } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { createInterface } from 'node:readline';

/**
 * Starts Anchor Knot as its users do, with data of its own that is thrown away, and stops it afterwards. The addresses
 * are taken from what the start command prints.
 */
export default async function installation(): Promise<() => Promise<void>> {
  const data = mkdtempSync(join(tmpdir(), 'anchor-knot-e2e-'));
  const root = resolve(import.meta.dirname, '../..');
  const child = spawn(process.execPath, [join(root, 'server/dist/start/startAll.js'), '--throw-away'], {
    cwd: root,
    env: { ...process.env, ANCHOR_KNOT_DATA: data, PORT: process.env.E2E_PORT ?? '4390' },
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const printed: string[] = [];
  await new Promise<void>((done, failed) => {
    createInterface({ input: child.stdout }).on('line', (line) => {
      printed.push(line);
      if (line.startsWith('Ctrl-C')) done();
    });
    child.once('exit', () => failed(new Error(`the start command ended:\n${printed.join('\n')}`)));
  });
  const addressAfter = (label: string): string => printed.find((line) => line.includes(`${label}: http`))?.split(`${label}: `)[1] ?? '';
  process.env.ANCHOR_KNOT = addressAfter('Anchor Knot');
  process.env.CRM_PAGE = addressAfter('Fernhill CRM');
  process.env.ERP_PAGE = addressAfter('Coldharbour ERP');
  process.env.SHOP_PAGE = addressAfter('Market Row');
  return async () => {
    const ended = new Promise((done) => child.once('exit', done));
    child.kill('SIGINT');
    await ended;
    rmSync(data, { recursive: true, force: true });
  };
}
