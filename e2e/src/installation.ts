import { type ChildProcess, spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { createInterface } from 'node:readline';

export interface Installation {
  /** The address that the start command printed after a name. */
  addressOf(name: string): string;
  readonly data: string;
  /** The secrets that stand-ins were started with, by their short names. */
  readonly secrets: Readonly<Record<string, string>>;
  stop(): Promise<void>;
}

/** Starts Anchor Knot as its users do, with data of its own that is thrown away. */
export async function startInstallation(port: string, ...more: string[]): Promise<Installation> {
  const data = mkdtempSync(join(tmpdir(), 'anchor-knot-e2e-'));
  const root = resolve(import.meta.dirname, '../..');
  const child: ChildProcess = spawn(
    process.execPath,
    [join(root, 'server/dist/start/startAll.js'), '--throw-away', ...more],
    {
      cwd: root,
      env: { ...process.env, ANCHOR_KNOT_DATA: data, PORT: port },
      stdio: ['ignore', 'pipe', 'inherit'],
    },
  );
  const printed: string[] = [];
  await new Promise<void>((done, failed) => {
    createInterface({ input: child.stdout as NodeJS.ReadableStream }).on('line', (line) => {
      printed.push(line);
      if (line.startsWith('Ctrl-C')) done();
    });
    child.once('exit', () => failed(new Error(`the start command ended:\n${printed.join('\n')}`)));
  });
  const { secrets } = JSON.parse(readFileSync(join(data, 'start.json'), 'utf8')) as { secrets: Record<string, string> };
  return {
    data,
    secrets,
    addressOf: (name) => printed.find((line) => line.includes(`${name}: http`))?.split(`${name}: `)[1] ?? '',
    stop: async () => {
      const ended = new Promise((done) => child.once('exit', done));
      child.kill('SIGINT');
      await ended;
      rmSync(data, { recursive: true, force: true });
    },
  };
}

/** The demo, once for all tests that work with it. */
export default async function demo(): Promise<() => Promise<void>> {
  const { addressOf, secrets, stop } = await startInstallation(process.env.E2E_PORT ?? '4390', '--by-hand');
  process.env.ANCHOR_KNOT = addressOf('Anchor Knot');
  process.env.CRM_PAGE = addressOf('Fernhill CRM');
  process.env.ERP_PAGE = addressOf('Coldharbour ERP');
  process.env.POST_PAGE = addressOf('Gull Post');
  process.env.SHOP_PAGE = addressOf('Market Row');
  process.env.STANDIN_SECRETS = JSON.stringify(secrets);
  return stop;
}
