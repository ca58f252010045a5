import type { MemberId, RecordKey } from '@anchor-knot/core';
import type { Connector } from '@anchor-knot/connectors';
import type { Installation } from './installation.js';
import type { RunLease, Store } from './store.js';

const lookedAtOnce = 1000;
/** A listing that lacks more than this share of its ties (and more than a handful) is rather broken than true. */
const believableShare = 0.05;
const believableCount = 20;
/** However few there are: more than half of some gone at once, or all of them, is for a person to believe. */
const believablePart = 0.5;
const fewest = 4;

export interface GoneOutcome {
  readonly gone: readonly RecordKey[];
  /** Set when so many are missing that the listing itself is doubted. */
  readonly doubted?: string;
}

/**
 * Ties whose records are missing from a complete listing. Each is confirmed by reading its key before it counts,
 * because
 * a skipped page or a filter must not look like a deletion.
 */
export async function findGone(
  { store }: Installation,
  lease: RunLease,
  member: MemberId,
  connector: Connector,
  listed: ReadonlySet<RecordKey>,
  overGuards: boolean,
): Promise<GoneOutcome> {
  const missing: RecordKey[] = [];
  let total = 0;
  for (let after: RecordKey | undefined; ;) {
    const keys = await store.tiedKeys(lease.knot, member, after, lookedAtOnce);
    total += keys.length;
    missing.push(...keys.filter((key) => !listed.has(key)));
    after = keys.at(-1);
    if (keys.length < lookedAtOnce) break;
  }
  if (!overGuards && isDoubtful(missing.length, total)) {
    return {
      gone: [],
      doubted: `${missing.length} of ${total} tied records are missing from the listing, which is too many to believe`,
    };
  }
  const gone: RecordKey[] = [];
  for (const key of missing) if ((await connector.readOne(key)) === undefined) gone.push(key);
  return { gone };
}

/** Whether so many records are missing at once that the listing is rather short than true. */
function isDoubtful(missing: number, total: number): boolean {
  if (missing === 0) return false;
  if (missing === total) return true;
  if (total >= fewest && missing > total * believablePart) return true;
  return missing > believableCount && missing > total * believableShare;
}

/** Forgets records that the filter left out and that are not there any more. @param listed all that are there */
export async function forgetGoneFiltered(
  store: Store,
  lease: RunLease,
  member: MemberId,
  listed: ReadonlySet<RecordKey>,
): Promise<void> {
  for (let after: RecordKey | undefined; ;) {
    const keys = await store.filteredKeys(lease.knot, member, after, lookedAtOnce);
    const gone = keys.filter((key) => !listed.has(key));
    if (gone.length > 0) await store.forgetFiltered(lease, member, gone);
    after = keys.at(-1);
    if (keys.length < lookedAtOnce) return;
  }
}
