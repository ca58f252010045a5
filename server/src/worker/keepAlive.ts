import { LeaseLost, type RunLease } from '../orchestration/lease.js';
import type { Store } from '../orchestration/store.js';

/**
 * Renews the lease of a run, or of a part of one, until what is given is called.
 * @param lost is called when it is another worker's
 */
export function keepAlive(
  { store, leaseMs }: { readonly store: Pick<Store, 'renewLease'>; readonly leaseMs: number },
  lease: RunLease,
  lost: () => void = () => undefined,
): () => void {
  const timer = setInterval(() => {
    store.renewLease(lease, Date.now(), leaseMs).catch((error: unknown) => {
      if (error instanceof LeaseLost) lost();
    });
  }, leaseMs / 3);
  return () => clearInterval(timer);
}
