import { isIP } from 'node:net';
import { Agent, buildConnector } from 'undici';
import type { AddressFilter } from '../addressFilter.js';

/**
 * Connections to one system. Where each leads is judged first, and the address that was judged is the one that is
 * connected to.
 */
export function filteredAgent(addresses: AddressFilter, systemName: string, timeoutMs: number): Agent {
  const connect = buildConnector({ timeout: Math.min(timeoutMs, 10_000) });
  return new Agent({
    connections: 8,
    headersTimeout: timeoutMs,
    bodyTimeout: timeoutMs,
    connect: (options, done) => {
      const port = Number(options.port || (options.protocol === 'https:' ? 443 : 80));
      const host = options.hostname.replace(/^\[(.*)\]$/, '$1');
      // The certificate is checked for the name, not for the address that it has just now.
      const name = isIP(host) ? {} : { servername: options.servername ?? host };
      addresses.resolve(host, port, systemName).then(
        (address) => connect({ ...options, ...name, hostname: address }, done),
        (error: Error) => done(error, null),
      );
    },
  });
}
