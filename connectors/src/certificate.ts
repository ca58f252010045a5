import { once } from 'node:events';
import { connect, isIP, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import type { System } from '@anchor-knot/contracts';
import type { Instant } from '@anchor-knot/core';
import type { AddressFilter } from './addressFilter.js';

const longestMs = 10_000;

/**
 * When the certificate ends by which a system proves who it is. No credential is sent there, so one that has ended or
 * that nobody trusts says its end, too.
 * @returns `undefined` where there is none, since it is not reached by TLS
 * @throws {SystemTrouble} where the address may not be reached; an error of the connection
 */
export async function certificateEnd(system: System, addresses: AddressFilter): Promise<Instant | undefined> {
  const place = encryptedPlace(system);
  if (!place) return undefined;
  const { name, port } = place;
  const socket = connect({ host: await addresses.resolve(name, port, system.name), port });
  socket.setTimeout(longestMs, () => socket.destroy(new Error('no answer in time')));
  try {
    await once(socket, 'connect');
    if (system.kind === 'sql') await askForTls(socket);
    return await endOfPeer(socket, name);
  } finally {
    socket.destroy();
  }
}

function encryptedPlace(system: System): { readonly name: string; readonly port: number } | undefined {
  if (system.kind === 'files' || system.kind === 'groups') return undefined;
  if (system.kind === 'sql') return system.tls === 'off' ? undefined : { name: system.host, port: system.port };
  const { protocol, hostname, port } = new URL(system.address);
  if (protocol !== 'https:') return undefined;
  return { name: hostname.replace(/^\[(.*)\]$/, '$1'), port: Number(port || 443) };
}

/** PostgreSQL's SSLRequest (manual, section "Message Formats"), which is answered with one letter. */
async function askForTls(socket: Socket): Promise<void> {
  const request = Buffer.alloc(8);
  request.writeInt32BE(8, 0);
  request.writeInt32BE(80_877_103, 4);
  socket.write(request);
  const [answer] = (await once(socket, 'data')) as [Buffer];
  if (answer.toString('latin1') !== 'S') throw new Error('it does not speak TLS');
}

async function endOfPeer(socket: Socket, name: string): Promise<Instant | undefined> {
  const encrypted = connectTls({ socket, rejectUnauthorized: false, ...(isIP(name) ? {} : { servername: name }) });
  await once(encrypted, 'secureConnect');
  const end = Date.parse(encrypted.getPeerCertificate().valid_to);
  encrypted.destroy();
  return Number.isNaN(end) ? undefined : end;
}
