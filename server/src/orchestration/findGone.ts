import type { MemberId, RecordKey } from '@anchor-knot/core';
import type { Connector } from '@anchor-knot/connectors';
import type { Installation } from './installation.js';
import type { RunLease } from './store.js';

const lookedAtOnce = 1000;
/** A listing that lacks more than this share of its ties (and more than a handful) is rather broken than true. */
const believableShare = 0.05;
const believableCount = 20;

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
  if (missing.length > believableCount && missing.length > total * believableShare) {
    return {
      gone: [],
      doubted: `${missing.length} of ${total} tied records are missing from the listing, which is too many to believe`,
    };
  }
  const gone: RecordKey[] = [];
  for (const key of missing) if ((await connector.readOne(key)) === undefined) gone.push(key);
  return { gone };
}
