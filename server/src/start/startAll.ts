/**
 * The start command: a cluster of our own, the stand-ins, the demo's data, the web server and a worker; stopped
 * together.
 */
import { type ChildProcess, fork, spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { join, resolve } from 'node:path';
import { createInterface } from 'node:readline';
import { createDatabase } from '../persistence/createDatabase.js';
import { openInstallation } from '../installationParts.js';
import { type Cluster, clusterFolder, freePort, startCluster } from './cluster.js';
import { demoPeople, demoSystems, loadDemo, type StandIn } from './demo.js';

const root = resolve(import.meta.dirname, '../../..');
const data = resolve(process.env.ANCHOR_KNOT_DATA ?? join(root, '.data'));
const empty = process.argv.includes('--empty');
/** For tests: the clusters are removed when all is stopped. */
const throwAway = process.argv.includes('--throw-away');
/** The demo's knot runs by hand only, not as soon as something happens. */
const byHand = process.argv.includes('--by-hand');
/** Invented people edit records now and then, so that somebody who looks sees something happen. */
const lively = process.argv.includes('--lively');
const say = (text: string): void => console.log(text);

/** What is opened is closed in the opposite order. */
const closers: { readonly name: string; readonly close: () => Promise<void> | void }[] = [];
let stopping = false;

async function stopAll(code: number): Promise<never> {
  if (stopping) return new Promise<never>(() => undefined);
  stopping = true;
  say('\nStopping.');
  for (const { name, close } of closers.toReversed()) {
    try {
      await close();
    } catch (error) {
      console.error(`${name} could not be stopped: ${(error as Error).message}`);
    }
  }
  process.exit(code);
}

function keep(name: string, child: ChildProcess): void {
  child.once('exit', (code, signal) => {
    if (!stopping) {
      console.error(`${name} ended by itself (${signal ?? code}).`);
      void stopAll(1);
    }
  });
  closers.push({
    name,
    close: () =>
      new Promise<void>((done) => {
        if (child.exitCode !== null || child.signalCode !== null) return done();
        const timer = setTimeout(() => child.kill('SIGKILL'), 8000);
        child.once('exit', () => {
          clearTimeout(timer);
          done();
        });
        child.kill('SIGTERM');
      }),
  });
}

interface StandInStart {
  readonly which: string;
  /** The systems of the demo that it is: one may have several faces. */
  readonly systems: readonly StandIn['system'][];
  readonly port: number;
  /** The database role that signs in, for those that are databases. */
  readonly role?: string;
}
const standInStarts: readonly StandInStart[] = [
  { which: 'crm', systems: ['fernhill'], port: 4311 },
  { which: 'shop', systems: ['marketRow'], port: 4312 },
  { which: 'desk', systems: ['bellpull'], port: 4315 },
  { which: 'boards', systems: ['pegline'], port: 4316 },
  { which: 'erp', systems: ['coldharbour', 'coldharbourOData'], port: 4313, role: 'erp_exchange' },
  { which: 'granary', systems: ['granary'], port: 4314, role: 'granary_reader' },
  { which: 'bay', systems: ['loadingBay'], port: 4317 },
  // Mail is sent, not tied: it is no system of the demo.
  { which: 'post', systems: [], port: 4318 },
];
const smtpPort = 4325;
const otherNames: Readonly<Record<string, string>> = { post: 'Gull Post' };
const nameOf = ({ which, systems: [first] }: StandInStart): string =>
  first ? demoSystems[first].name : (otherNames[which] ?? which);

interface Kept {
  ports: Record<string, number>;
  secrets: Record<string, string>;
}
const keptFile = join(data, 'start.json');

function readKept(): Kept {
  mkdirSync(data, { recursive: true, mode: 0o700 });
  return existsSync(keptFile) ? (JSON.parse(readFileSync(keptFile, 'utf8')) as Kept) : { ports: {}, secrets: {} };
}

/** The same port as last time where it is free, so that links stay good. */
async function portFor(kept: Kept, name: string, preferred: number): Promise<number> {
  const wanted = kept.ports[name] ?? preferred;
  const free = await new Promise<boolean>((done) => {
    const probe = createServer();
    probe.once('error', () => done(false));
    probe.listen(wanted, '127.0.0.1', () => probe.close(() => done(true)));
  });
  kept.ports[name] = free ? wanted : await freePort();
  return kept.ports[name];
}

function secretFor(kept: Kept, name: string): string {
  kept.secrets[name] ??= randomBytes(18).toString('base64url');
  return kept.secrets[name];
}

/** The key that encrypts secrets, in a folder of its own, apart from the data and its backups. */
function secretKey(): string {
  const folder = join(data, 'keys');
  const file = join(folder, 'secret.key');
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  if (!existsSync(file)) writeFileSync(file, randomBytes(32).toString('base64'), { mode: 0o600 });
  return readFileSync(file, 'utf8').trim();
}

interface StartedStandIn {
  readonly name: string;
  readonly pageAddress: string;
  readonly systems: readonly StandIn[];
}

async function startStandIn(kept: Kept, start: StandInStart, cluster: Cluster): Promise<StartedStandIn> {
  const { which, systems, port: preferredPort, role } = start;
  const credential = { id: role ?? `anchor-knot-${which}`, secret: secretFor(kept, which) };
  const port = await portFor(kept, which, preferredPort);
  const folder = join(data, 'loading-bay');
  const child = spawn(process.execPath, [join(root, 'standins/dist/main.js'), which], {
    env: {
      ...process.env,
      STANDIN_DATA: join(data, 'standins'),
      STANDIN_PORT: String(port),
      STANDIN_ID: credential.id,
      STANDIN_SECRET: credential.secret,
      STANDIN_DATABASE_URL: cluster.url('postgres'),
      STANDIN_FOLDER: folder,
      ...(which === 'post' ? { STANDIN_SMTP_PORT: String(await portFor(kept, 'smtp', smtpPort)) } : {}),
    },
    stdio: ['ignore', 'pipe', 'inherit'],
    detached: true,
  });
  keep(which, child);
  await new Promise<void>((done) => createInterface({ input: child.stdout }).once('line', () => done()));
  const { hostname, port: databasePort } = new URL(cluster.url('postgres'));
  const pageAddress = `http://127.0.0.1:${port}`;
  const place = {
    address: pageAddress,
    database: { host: hostname, port: Number(databasePort) },
    folder,
    page: pageAddress,
  };
  return {
    name: nameOf(start),
    pageAddress,
    systems: systems.map((system) => ({
      system,
      place,
      credential: which === 'bay' ? undefined : credential,
    })),
  };
}

function startVisitors(standIns: readonly StartedStandIn[]): void {
  const pageOf = (name: string): string => standIns.find((standIn) => standIn.name === name)?.pageAddress ?? '';
  const visited = [
    { address: pageOf(demoSystems.fernhill.name), town: 'address.town', street: 'address.street' },
    { address: pageOf(demoSystems.marketRow.name), town: 'city', street: 'address_line' },
  ];
  const child = spawn(process.execPath, [join(root, 'standins/dist/visitors/main.js')], {
    env: { ...process.env, VISITED_SYSTEMS: JSON.stringify(visited) },
    stdio: ['ignore', 'ignore', 'inherit'],
    detached: true,
  });
  keep('visitors', child);
}

/** What a person needs to connect a stand-in by hand. */
function connectionOf({ place, credential, system }: StandIn): string {
  if (!credential) return `    folder ${place.folder}`;
  const where =
    system === 'coldharbour' || system === 'granary'
      ? ` · database ${system} at ${place.database.host}:${place.database.port}`
      : system === 'coldharbourOData'
        ? ` · OData at ${place.address}/odata`
        : '';
  return `    ${credential.id} · ${credential.secret}${where}`;
}

/**
 * A worker makes many small values that are soon of no use: with more room for them it is collected less often, which
 * takes a tenth off a first load.
 */
const roomForNewValues = '--max-semi-space-size=64';

/** Detached, so that Ctrl-C in the terminal reaches only this process, which then stops the others in order. */
async function startProcess(
  name: string,
  file: string,
  environment: NodeJS.ProcessEnv,
  nodeOptions: readonly string[] = [],
): Promise<void> {
  const child = fork(join(import.meta.dirname, '..', file), {
    env: { ...process.env, ...environment },
    stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
    detached: true,
    execArgv: [...process.execArgv, ...nodeOptions],
  });
  keep(name, child);
  await new Promise<void>((done, failed) => {
    child.once('message', () => done());
    child.once('exit', () => failed(new Error(`${name} did not start`)));
  });
}

/** A cluster that is stopped with everything else, if it did not run before. */
async function openCluster(name: string, folder: string): Promise<Cluster> {
  const cluster = await startCluster(folder, { throwAway });
  if (cluster.started) {
    closers.push({
      name,
      close: () => {
        cluster.stop();
        if (throwAway) rmSync(folder, { recursive: true, force: true });
      },
    });
  }
  return cluster;
}

async function main(): Promise<void> {
  const lock = join(data, 'running');
  const kept = readKept();
  const other = existsSync(lock) ? Number(readFileSync(lock, 'utf8')) : undefined;
  if (other !== undefined && isAlive(other)) {
    say(`Anchor Knot is running already (process ${other}): http://127.0.0.1:${kept.ports.web}`);
    return;
  }
  writeFileSync(lock, String(process.pid));
  closers.push({ name: 'lock', close: () => rmSync(lock, { force: true }) });
  process.on('SIGINT', () => void stopAll(0));
  process.on('SIGTERM', () => void stopAll(0));
  process.on('SIGHUP', () => void stopAll(0));

  say('Starting the database.');
  const id = createHash('sha256').update(data).digest('hex').slice(0, 12);
  const cluster = await openCluster('database', clusterFolder(data, process.getuid?.() === 0 ? id : 'database'));
  const database = empty ? 'anchor_knot_empty' : 'anchor_knot';
  await createDatabase(cluster.url, database);

  say(`Starting the stand-ins: ${standInStarts.map(nameOf).join(', ')}.`);
  // The databases of other systems are not the application's: they are in a cluster of their own.
  const theirs = await openCluster(
    'database of the stand-ins',
    clusterFolder(data, process.getuid?.() === 0 ? `${id}-standins` : 'standins-database'),
  );
  const standIns = await Promise.all(standInStarts.map((start) => startStandIn(kept, start, theirs)));
  const webPort = await portFor(kept, 'web', Number(process.env.PORT ?? 4300));
  writeFileSync(keptFile, JSON.stringify(kept), { mode: 0o600 });

  say(empty ? 'Preparing an empty installation.' : 'Preparing the demo.');
  const environment = {
    DATABASE_URL: cluster.url(database),
    SECRET_KEY: secretKey(),
    PORT: String(webPort),
    HOST: '127.0.0.1',
    WEB_FOLDER: join(root, 'web/dist/web/browser'),
    LOG_LEVEL: process.env.LOG_LEVEL ?? 'warn',
    // The stand-ins are on this machine.
    REACHABLE_NETWORKS: process.env.REACHABLE_NETWORKS ?? '127.0.0.0/8',
    FILE_FOLDERS: process.env.FILE_FOLDERS ?? join(data, 'loading-bay'),
    // Gull Post takes all mail, and sends none on.
    SMTP_URL: process.env.SMTP_URL ?? `smtp://127.0.0.1:${kept.ports.smtp ?? smtpPort}`,
    MAIL_FROM: process.env.MAIL_FROM ?? 'anchor-knot@hazelmoor.example',
    PUBLIC_ADDRESS: process.env.PUBLIC_ADDRESS ?? `http://127.0.0.1:${webPort}`,
  };
  const parts = await openInstallation({
    DATABASE_URL: environment.DATABASE_URL,
    SECRET_KEY: environment.SECRET_KEY,
    REACHABLE_NETWORKS: environment.REACHABLE_NETWORKS.split(','),
    FILE_FOLDERS: [],
  });
  await loadDemo(parts, empty ? [] : standIns.flatMap(({ systems }) => systems), {
    byHand,
    publicAddress: environment.PUBLIC_ADDRESS,
  });
  await parts.close();

  say('Starting the server and two workers.');
  for (const worker of ['worker', 'second worker'])
    await startProcess(worker, 'workerProcess.js', environment, [roomForNewValues]);
  await startProcess('server', 'serverProcess.js', environment);
  if (lively) startVisitors(standIns);
  const people = (empty ? demoPeople.slice(0, 1) : demoPeople).map(
    ({ email, password, role }) => `    ${email.padEnd(28)} ${password.padEnd(22)} ${role}`,
  );
  const pages = standIns.flatMap(({ name, pageAddress, systems }) => [
    `  ${name}: ${pageAddress}`,
    ...(empty ? systems.map(connectionOf) : []),
  ]);
  say(
    [
      '',
      `Anchor Knot: http://127.0.0.1:${webPort}`,
      '',
      '  Sign in with',
      ...people,
      '',
      ...(pages.length > 0
        ? ['  The stand-ins have pages of their own, to edit records and to switch faults on', ...pages, '']
        : []),
      'Ctrl-C stops everything.',
    ].join('\n'),
  );
}

function isAlive(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes('startAll');
  } catch {
    return false;
  }
}

main().catch(async (error: unknown) => {
  console.error(error instanceof Error ? error.message : error);
  await stopAll(1);
});
