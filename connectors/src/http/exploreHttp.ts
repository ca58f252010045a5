import { request } from 'undici';
import type { HttpSystem } from '@anchor-knot/contracts';
import { type Raw, readPath, scalarText } from '@anchor-knot/core';
import type { AddressFilter } from '../addressFilter.js';
import { SystemTrouble } from '../connector.js';
import { filteredAgent } from './agent.js';
import { boundedText, Caller, type CallerDependencies, wordsOf } from './caller.js';

const documentMs = 20_000;

/** The organisations, companies or units that the account sees. @throws {SystemTrouble} */
export async function listUnits(
  system: HttpSystem,
  dependencies: CallerDependencies,
): Promise<{ id: string; name: string }[]> {
  const { unit } = system;
  if (!unit) return [];
  const { chosen: _, ...without } = unit;
  const caller = new Caller({ ...system, unit: without }, dependencies);
  try {
    const answer = await caller.read({ method: 'GET', path: unit.list.path });
    const items =
      answer.status < 400 ? (unit.list.items === '' ? answer.body : readPath(answer.body, unit.list.items)) : undefined;
    if (!Array.isArray(items))
      throw new SystemTrouble(
        'answer not understood',
        `${system.name} does not say which units there are: ${wordsOf(answer)}`,
        'See how its units are described.',
      );
    return (items as Raw[]).flatMap((item) => {
      const id = scalarText(readPath(item, unit.list.id));
      return id === undefined ? [] : [{ id, name: scalarText(readPath(item, unit.list.name)) ?? id }];
    });
  } finally {
    await caller.close();
  }
}

/** A description of an interface, by its address. @throws {SystemTrouble} */
export async function fetchDocument(address: string, addresses: AddressFilter): Promise<string> {
  const agent = filteredAgent(addresses, 'The document', documentMs);
  try {
    const { statusCode, headers, body } = await request(address, {
      dispatcher: agent,
      headers: { accept: 'application/json, application/yaml, text/plain' },
    });
    const text = await boundedText(body, address);
    if (statusCode >= 300 && statusCode < 400)
      throw new SystemTrouble(
        'answer not understood',
        `${address} leads on to ${String(headers.location)}`,
        'Give that address, if it is the right one.',
      );
    if (statusCode >= 400)
      throw new SystemTrouble(
        'answer not understood',
        `${address} answered ${statusCode}`,
        'Open it in a browser; if it needs a sign-in, save the document and give the file.',
      );
    return text;
  } catch (error) {
    if (error instanceof SystemTrouble) throw error;
    throw new SystemTrouble(
      'unreachable',
      `${address} cannot be reached: ${(error as Error).message}`,
      'Check the address.',
      { cause: error },
    );
  } finally {
    await agent.close();
  }
}
