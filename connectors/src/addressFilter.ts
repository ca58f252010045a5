import { lookup } from 'node:dns/promises';
import { BlockList, isIP } from 'node:net';
import { SystemTrouble } from './connector.js';

/**
 * Networks that are never the address of a business system: special use by RFC 6890, and what holds clouds' metadata.
 */
const never: readonly (readonly [network: string, prefix: number, family: 'ipv4' | 'ipv6'])[] = [
  ['0.0.0.0', 8, 'ipv4'],
  ['169.254.0.0', 16, 'ipv4'],
  ['224.0.0.0', 4, 'ipv4'],
  ['240.0.0.0', 4, 'ipv4'],
  ['100.100.100.200', 32, 'ipv4'],
  ['::', 128, 'ipv6'],
  ['fe80::', 10, 'ipv6'],
  ['ff00::', 8, 'ipv6'],
  ['fd00:ec2::', 32, 'ipv6'],
];
/** Networks of one's own: allowed only where the installation's settings say so. */
const inside: typeof never = [
  ['10.0.0.0', 8, 'ipv4'],
  ['100.64.0.0', 10, 'ipv4'],
  ['127.0.0.0', 8, 'ipv4'],
  ['172.16.0.0', 12, 'ipv4'],
  ['192.168.0.0', 16, 'ipv4'],
  ['::1', 128, 'ipv6'],
  ['fc00::', 7, 'ipv6'],
];

export interface AddressRules {
  /** Networks inside that may be reached, in CIDR notation. */
  readonly allowed: readonly string[];
  /** Places that may never be reached, whatever is allowed: the application's own database. */
  readonly own: readonly { readonly host: string; readonly port: number }[];
}

/**
 * Says where systems may be: a system's address comes from a person, and must not lead to places that only this server
 * can see (OWASP, Server-Side Request Forgery Prevention). Names are resolved here, and the address that was judged is
 * the one to connect to, so that a name that answers otherwise a moment later changes nothing.
 */
export class AddressFilter {
  readonly #never = blockList(never);
  readonly #inside = blockList(inside);
  readonly #allowed: BlockList;
  readonly #own: AddressRules['own'];

  constructor({ allowed, own }: AddressRules) {
    this.#allowed = blockList(allowed.map(parseNetwork));
    this.#own = own;
  }

  /**
   * @param systemName for the words of the trouble
   * @returns the IP address to connect to
   * @throws {SystemTrouble} when the name is unknown, or its address may not be reached
   */
  async resolve(host: string, port: number, systemName: string): Promise<string> {
    const bare = host.replace(/^\[(.*)\]$/, '$1');
    const addresses = isIP(bare) ? [bare] : (await this.#lookUp(bare, systemName)).map(({ address }) => address);
    for (const address of addresses) await this.#judge(address, bare, port, systemName);
    return addresses[0] as string;
  }

  async #lookUp(host: string, systemName: string): Promise<{ address: string }[]> {
    try {
      return await lookup(host, { all: true });
    } catch (cause) {
      throw new SystemTrouble(
        'unreachable',
        `${systemName}: there is no host “${host}”`,
        'Check the spelling of the address.',
        { cause },
      );
    }
  }

  async #judge(given: string, host: string, port: number, systemName: string): Promise<void> {
    // An IPv4 address in IPv6 clothing is judged as what it is (RFC 4291 section 2.5.5.2).
    const address = given.replace(/^::ffff:(\d+\.\d+\.\d+\.\d+)$/i, '$1');
    const family = isIP(address) === 6 ? 'ipv6' : 'ipv4';
    const where = address === host ? address : `${host} (${address})`;
    const isOwn = this.#own.some(
      (own) =>
        own.port === port &&
        (own.host === host || own.host === address || (isLoopback(own.host) && isLoopback(address))),
    );
    if (isOwn)
      throw new SystemTrouble(
        'not allowed',
        `${systemName}: ${where}:${port} is this application’s own database`,
        'Choose the address of the system itself.',
      );
    if (this.#never.check(address, family))
      throw new SystemTrouble(
        'not allowed',
        `${systemName}: ${where} is no address of a system`,
        'Choose the address of the system itself.',
      );
    if (this.#inside.check(address, family) && !this.#allowed.check(address, family))
      throw new SystemTrouble(
        'not allowed',
        `${systemName}: ${where} is in a private network, which this installation may not reach`,
        'Whoever runs this installation can allow that network in its settings (REACHABLE_NETWORKS).',
      );
  }
}

function isLoopback(address: string): boolean {
  return address === 'localhost' || address === '::1' || address.startsWith('127.');
}

function blockList(networks: readonly (readonly [string, number, 'ipv4' | 'ipv6'])[]): BlockList {
  const list = new BlockList();
  for (const [network, prefix, family] of networks) list.addSubnet(network, prefix, family);
  return list;
}

/** @throws when the text is no network in CIDR notation (RFC 4632) */
export function parseNetwork(text: string): readonly [string, number, 'ipv4' | 'ipv6'] {
  const [network = '', prefix = ''] = text.trim().split('/');
  const version = isIP(network);
  const bits = Number(prefix);
  if (version === 0 || !/^\d+$/.test(prefix) || bits > (version === 6 ? 128 : 32))
    throw new Error(`“${text}” is no network in CIDR notation, such as 10.0.0.0/8`);
  return [network, bits, version === 6 ? 'ipv6' : 'ipv4'];
}
