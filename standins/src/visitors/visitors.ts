import { setTimeout as wait } from 'node:timers/promises';
import { editOnPage } from './editOnPage.js';

const towns = ['Marrowby', 'Ashcombe', 'Thornquay', 'Saltpan', 'Fenwick Mere', 'Hazelmoor'];
const streets = ['Market Street', 'Saltpan Lane', 'Orchard Row', 'Quay Road', 'Mill Hill'];

/** A system whose records are edited, and what its pages call the fields. */
export interface VisitedSystem {
  readonly address: string;
  readonly town: string;
  readonly street: string;
}

/**
 * People who move now and then: edits of records, one after the other, on the pages of systems, without end.
 * @param random between 0 and 1, as of `Math.random`
 * @param pauseMs between two edits, in milliseconds
 */
export async function visit(
  systems: readonly VisitedSystem[],
  random: () => number,
  pauseMs: number,
  signal: AbortSignal,
): Promise<void> {
  const any = <Item>(items: readonly Item[]): Item | undefined => items[Math.floor(random() * items.length)];
  while (!signal.aborted) {
    await wait(pauseMs, undefined, { signal }).catch(() => undefined);
    const system = any(systems);
    if (signal.aborted || !system) return;
    const change = random() < 0.5 ? { [system.town]: any(towns) ?? '' } : { [system.street]: moved(any(streets)) };
    try {
      const key = any(await keysOn(system.address));
      if (key !== undefined) await editOnPage(system.address, key, change);
    } catch {
      // A system that is slow, away or refuses by one of its faults is visited again.
    }
  }

  function moved(street = ''): string {
    return `${street} ${1 + Math.floor(random() * 90)}`;
  }
}

async function keysOn(address: string): Promise<readonly string[]> {
  const page = await (await fetch(address)).text();
  return [...page.matchAll(/href="\/records\/([^"]+)"/g)].flatMap(([, key]) => (key === 'new' || !key ? [] : [key]));
}
