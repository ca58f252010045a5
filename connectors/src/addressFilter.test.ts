import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { httpSystemSchema } from '@anchor-knot/contracts';
import { AddressFilter } from './addressFilter.js';
import { SystemTrouble } from './connector.js';
import { HttpConnector } from './http/httpConnector.js';

const strict = new AddressFilter({ allowed: [], own: [{ host: '127.0.0.1', port: 5432 }] });
const loopback = new AddressFilter({ allowed: ['127.0.0.0/8', '::1/128'], own: [{ host: '127.0.0.1', port: 5432 }] });
const refusal = async (filter: AddressFilter, host: string, port = 443) =>
  filter.resolve(host, port, 'S').then(
    (address) => `reached ${address}`,
    (error: SystemTrouble) => error.code,
  );

test.each([
  ['169.254.169.254', 'a cloud’s metadata'],
  ['[fd00:ec2::254]', 'the same in IPv6'],
  ['100.100.100.200', 'another cloud’s metadata'],
  ['0.0.0.0', 'this machine, by its shortest name'],
  ['224.0.0.1', 'multicast'],
  ['127.0.0.1', 'loopback'],
  ['[::1]', 'loopback in IPv6'],
  ['[::ffff:127.0.0.1]', 'loopback, IPv4 in IPv6'],
  ['10.1.2.3', 'a private network'],
  ['192.168.1.1', 'a private network'],
  ['172.31.255.255', 'a private network'],
  ['[fe80::1]', 'a link-local address'],
  ['localhost', 'a name that leads inside'],
])('%s (%s) may not be reached', async (host) => {
  expect(await refusal(strict, host)).toBe('not allowed');
});

test('what is outside may be reached, and inside only what the settings allow; the own database never', async () => {
  expect(await refusal(strict, '203.0.113.7')).toBe('reached 203.0.113.7');
  expect(await refusal(loopback, '127.0.0.1', 8080)).toBe('reached 127.0.0.1');
  expect(await refusal(loopback, '10.0.0.1')).toBe('not allowed');
  expect(await refusal(loopback, '127.0.0.1', 5432)).toBe('not allowed');
  expect(await refusal(loopback, 'localhost', 5432)).toBe('not allowed');
  expect(await refusal(strict, 'no-such-host.invalid')).toBe('unreachable');
});

test('the HTTP connector goes where the filter lets it, and follows no redirect to another place', async () => {
  let secretRead = 0;
  const inner = createServer((_, answer) => {
    secretRead += 1;
    answer.end('{"data":[]}');
  }).listen(0, '127.0.0.1');
  const outer = createServer((_, answer) =>
    answer.writeHead(302, { location: `http://127.0.0.1:${(inner.address() as AddressInfo).port}/` }).end(),
  ).listen(0, '127.0.0.1');
  await new Promise((done) => setTimeout(done, 50));
  const system = (port: number) =>
    httpSystemSchema.parse({
      kind: 'http',
      name: 'S',
      address: `http://localhost:${port}`,
      signIn: { kind: 'none' },
      objects: {
        things: {
          key: 'id',
          list: { path: '/', items: 'data', pageSize: { parameter: 'n', value: 10 }, paging: { kind: 'link header' } },
          read: { path: '/{key}' },
        },
      },
    });
  const clock = { now: () => Date.now(), sleep: async () => undefined };
  const read = async (port: number, addresses: AddressFilter) => {
    const connector = new HttpConnector(system(port), 'things', { clock, random: () => 0, addresses });
    try {
      for await (const _ of connector.read({})) return 'read';
      return 'nothing';
    } catch (error) {
      return (error as SystemTrouble).code;
    } finally {
      await connector.close();
    }
  };
  const { port } = outer.address() as AddressInfo;
  expect(await read((inner.address() as AddressInfo).port, strict)).toBe('not allowed');
  expect(await read(port, loopback)).toBe('answer not understood');
  expect(secretRead).toBe(0);
  inner.close();
  outer.close();
});
