import { access, constants, readdir } from 'node:fs/promises';
import { connect } from 'node:net';
import { connect as connectTls } from 'node:tls';
import { type FilesSystem, objectNames, type System } from '@anchor-knot/contracts';
import { type Connector, SystemTrouble, type TroubleCode } from './connector.js';
import { openFolder } from './files/folder.js';
import { type ConnectorDependencies, openConnector } from './open.js';

export interface ProbeStep {
  readonly name: string;
  readonly state: 'good' | 'failed' | 'doubtful' | 'not tried';
  /** What was found, or what went wrong. */
  readonly says: string;
  readonly advice?: string | undefined;
  /** What kind of trouble it is, where the step failed. */
  readonly code?: TroubleCode | undefined;
}

export interface Probe {
  readonly steps: readonly ProbeStep[];
  /** How long reading one page took, in milliseconds. */
  readonly answerMs: number | undefined;
  readonly clockOffsetMs: number | undefined;
  readonly ok: boolean;
}

const connectMs = 8000;
/** Clocks further apart than this make *newest edit* decide wrongly. */
const doubtfulOffsetMs = 2000;

/**
 * Tries a system step by step and says which step failed and what to do. Reads at most one page of each object; writes
 * nothing.
 */
export async function probeSystem(system: System, dependencies: ConnectorDependencies): Promise<Probe> {
  const steps: ProbeStep[] = [];
  const place = placeOf(system);
  const reached = place && (await step(steps, 'Reach the host', () => reach(place, system.name, dependencies)));
  if (system.kind === 'files') await step(steps, 'Find the folder', () => folderOf(system, dependencies));
  if (reached && place?.tls) await step(steps, 'TLS', async () => handshake(place, system.name, dependencies));
  const objects = objectNames(system);
  let answerMs: number | undefined;
  let clockOffsetMs: number | undefined;
  if (steps.some(({ state }) => state === 'failed'))
    steps.push({ name: 'Sign in', state: 'not tried', says: 'because the step before failed' });
  else if (objects.length === 0) steps.push({ name: 'Read', state: 'not tried', says: 'no object is described yet' });
  else {
    for (const object of objects) {
      const connector = openConnector(system, object, dependencies);
      try {
        const started = dependencies.clock.now();
        const done = await step(steps, `Read ${object}`, () => readFirst(connector));
        if (!steps.some(({ name }) => name === 'Sign in') && done && place)
          steps.splice(-1, 0, { name: 'Sign in', state: 'good', says: 'accepted' });
        if (done) answerMs ??= dependencies.clock.now() - started;
        if (done) clockOffsetMs ??= connector.clockOffset();
        // Where the sign-in was refused once, it would be refused for every object.
        if (!done && steps.at(-1)?.name === 'Sign in') break;
      } finally {
        await connector.close().catch(() => undefined);
      }
    }
  }
  if (clockOffsetMs !== undefined && place) steps.push(clockStep(clockOffsetMs));
  return { steps, answerMs, clockOffsetMs, ok: steps.every(({ state }) => state === 'good' || state === 'doubtful') };
}

interface Place {
  readonly host: string;
  readonly port: number;
  /** True where the connection begins with TLS. */
  readonly tls: boolean;
}

function placeOf(system: System): Place | undefined {
  if (system.kind === 'files' || system.kind === 'groups') return undefined;
  if (system.kind === 'sql') return { host: system.host, port: system.port, tls: false };
  const url = new URL(system.address);
  return {
    host: url.hostname,
    port: Number(url.port || (url.protocol === 'https:' ? 443 : 80)),
    tls: url.protocol === 'https:',
  };
}

/** It works, and not in all that is described. */
class Doubt extends Error {
  constructor(
    message: string,
    readonly advice: string,
  ) {
    super(message);
  }
}

async function step(steps: ProbeStep[], name: string, work: () => Promise<string>): Promise<boolean> {
  try {
    steps.push({ name, state: 'good', says: await work() });
    return true;
  } catch (error) {
    if (error instanceof Doubt) {
      steps.push({ name, state: 'doubtful', says: error.message, advice: error.advice });
      return true;
    }
    if (!(error instanceof SystemTrouble)) throw error;
    steps.push({
      name: error.code === 'sign-in refused' ? 'Sign in' : name,
      state: 'failed',
      says: error.message,
      advice: error.advice,
      code: error.code,
    });
    return false;
  }
}

async function reach({ host, port }: Place, systemName: string, { addresses }: ConnectorDependencies): Promise<string> {
  const address = await addresses.resolve(host, port, systemName);
  await new Promise<void>((done, failed) => {
    const socket = connect({ host: address, port, timeout: connectMs });
    const end = (error?: Error): void => {
      socket.destroy();
      if (!error) return done();
      const code = (error as NodeJS.ErrnoException).code ?? error.message;
      const advice =
        code === 'ECONNREFUSED'
          ? 'The host is there, and nothing listens on this port: check the port.'
          : 'Check the host and the port, and whether a firewall is in between.';
      failed(
        new SystemTrouble('unreachable', `${systemName} cannot be reached at ${host}:${port}: ${code}`, advice, {
          cause: error,
        }),
      );
    };
    socket.once('connect', () => end());
    socket.once('timeout', () => end(new Error(`no answer within ${connectMs / 1000} s`)));
    socket.once('error', end);
  });
  return address === host ? `${host}:${port} answers` : `${host} is ${address}, and answers on port ${port}`;
}

async function handshake(
  { host, port }: Place,
  systemName: string,
  { addresses }: ConnectorDependencies,
): Promise<string> {
  const address = await addresses.resolve(host, port, systemName);
  return new Promise((done, failed) => {
    const socket = connectTls({ host: address, port, servername: host, timeout: connectMs }, () => {
      const { subject, valid_to: until } = socket.getPeerCertificate();
      const says =
        `${socket.getProtocol() ?? 'TLS'}, certificate of ${String(subject?.CN ?? host)}, good ` + `until ${until}`;
      socket.destroy();
      done(says);
    });
    const fail = (error: Error): void => {
      socket.destroy();
      const isOther = (error as NodeJS.ErrnoException).code === 'EPROTO' || /wrong version/i.test(error.message);
      const says = isOther ? 'it speaks no TLS on this port' : `TLS failed: ${error.message}`;
      const advice = isOther
        ? 'Use http, or another port.'
        : 'Use the name that the certificate is for, or have it renewed there.';
      failed(new SystemTrouble('unreachable', `${systemName}: ${says}`, advice, { cause: error }));
    };
    socket.once('error', fail);
    socket.once('timeout', () => fail(new Error(`no answer within ${connectMs / 1000} s`)));
  });
}

async function folderOf(system: FilesSystem, dependencies: ConnectorDependencies): Promise<string> {
  const path = await openFolder(system, dependencies);
  await readdir(path).catch((cause: unknown) => {
    throw new SystemTrouble(
      'file problem',
      `${path} cannot be listed as a folder`,
      'Give a folder, and check the rights on it.',
      { cause },
    );
  });
  const writable = await access(path, constants.W_OK).then(
    () => true,
    () => false,
  );
  return writable ? `${path} can be read and written` : `${path} can be read, and not written`;
}

async function readFirst(connector: Connector): Promise<string> {
  const stopping = new AbortController();
  for await (const page of connector.read({ signal: stopping.signal })) {
    const { create, update } = connector.capabilities;
    const wanted = [create && ('create' as const), update && ('update' as const)].filter((one) => one !== false);
    const rights = await connector.rights?.();
    const missing = rights ? wanted.filter((one) => !rights[one]) : [];
    const said = page.records.length === 0 ? 'no records yet' : `first page: ${page.records.length} records`;
    const reread = page.records[0] ? await connector.readOne(page.records[0].key) : undefined;
    if (page.records[0] && !reread)
      throw new SystemTrouble(
        'answer not understood',
        `record ${page.records[0].key} is listed, and cannot be read by its key`,
        'Check how one record is read, and which field is the key.',
      );
    if (missing.length > 0)
      throw new Doubt(
        `${said}; this account may read, and not ${missing.join(' or ')}`,
        'Give it the right to write there, or say in the description that it is only read.',
      );
    const may = wanted.join(' and ');
    return may === ''
      ? `${said}; to be read only`
      : rights
        ? `${said}; may ${may}`
        : `${said}; to ${may} was not tried`;
  }
  return 'nothing came';
}

function clockStep(offsetMs: number): ProbeStep {
  const seconds = Math.round(Math.abs(offsetMs) / 1000);
  if (Math.abs(offsetMs) < doubtfulOffsetMs) return { name: 'Clock', state: 'good', says: 'the same time as here' };
  const much = seconds < 120 ? `${seconds} s` : `${Math.round(seconds / 60)} minutes`;
  return {
    name: 'Clock',
    state: 'doubtful',
    says: `its clock is ${much} ${offsetMs > 0 ? 'ahead' : 'behind'}`,
    advice:
      'Times are corrected by this difference. Have the clock set there, so that what people see there is right too.',
  };
}
