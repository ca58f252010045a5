import { connect } from 'node:tls';
import { isIP } from 'node:net';
import type { Instant } from '@anchor-knot/core';
import type { AddressFilter } from '../addressFilter.js';

const longestMs = 10_000;

/**
 * When the certificate ends by which an address proves who it is. Nothing is sent there, so one that has ended or that
 * nobody trusts says its end, too.
 * @param address of a system, with its scheme
 * @returns `undefined` where there is none, since it is not HTTPS
 * @throws {SystemTrouble} where the address may not be reached; an error of the connection
 */
export async function certificateEnd(
  address: string,
  systemName: string,
  addresses: AddressFilter,
): Promise<Instant | undefined> {
  const url = new URL(address);
  if (url.protocol !== 'https:') return undefined;
  const name = url.hostname.replace(/^\[(.*)\]$/, '$1');
  const port = Number(url.port || 443);
  const host = await addresses.resolve(name, port, systemName);
  return new Promise((done, failed) => {
    const socket = connect(
      { host, port, rejectUnauthorized: false, ...(isIP(name) ? {} : { servername: name }) },
      () => {
        const end = Date.parse(socket.getPeerCertificate().valid_to);
        socket.destroy();
        done(Number.isNaN(end) ? undefined : end);
      },
    );
    socket.setTimeout(longestMs, () => socket.destroy(new Error('no answer in time')));
    socket.once('error', failed);
  });
}
