import type { MemberId, RecordKey } from '@anchor-knot/core';
import type { RunLease } from './lease.js';
import type { Store } from './store.js';
import type { KnownList } from './stored.js';

const lookedAtOnce = 1000;

/** Known records of a member that its listing has not shown, a page at a time. */
export async function* unlistedPages(
  store: Store,
  lease: RunLease,
  member: MemberId,
  list: KnownList,
): AsyncGenerator<readonly RecordKey[]> {
  for (let after: RecordKey | undefined; ;) {
    const keys = await store.unlisted(lease, member, list, after, lookedAtOnce);
    if (keys.length > 0) yield keys;
    after = keys.at(-1);
    if (keys.length < lookedAtOnce) return;
  }
}
