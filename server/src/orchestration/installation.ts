import type { CompiledKnot, CompiledMember, MemberId, RecordKey } from '@anchor-knot/core';
import type { Clock, Connector } from '@anchor-knot/connectors';
import type { RunCause } from '@anchor-knot/contracts';
import type { RunKind, RunLease } from './lease.js';
import type { Store } from './store.js';
import type { RunProgress, RunResult } from './runResult.js';

/** Everything outside that a run touches, by argument: an installation can run in one process on simulated parts. */
export interface Installation {
  readonly store: Store;
  readonly clock: Clock;
  /** New ids, for anchors, runs and intents. */
  readonly nextId: () => string;
  connect(member: CompiledMember): Promise<Connector>;
  systemName(member: string): string;
  /** The address of a record's page in its system, where it has such pages. */
  recordPage(member: MemberId, key: RecordKey): string | undefined;
}

export interface RunOptions {
  readonly knot: CompiledKnot;
  readonly knotVersion: number;
  readonly kind: RunKind;
  readonly startedBy: string;
  readonly cause?: RunCause | undefined;
  /** Go over the guards this once: a person looked at the plan. */
  readonly overGuards?: boolean;
  /** List everything, also where changes could be asked for. */
  readonly full?: boolean;
  /** Those that told of changes; all when left out. Others are read only where something new has to be sought. */
  readonly members?: ReadonlySet<MemberId> | undefined;
  /**
   * Records that are read beside them, each by its key. Nothing is known of the others of these members: nothing is
   * made there, and nothing counts as read.
   */
  readonly records?: ReadonlyMap<MemberId, readonly RecordKey[]> | undefined;
  readonly leaseMs: number;
  /** How many anchors a part of the run has that another worker may take. */
  readonly batchSize?: number | undefined;
  readonly signal?: AbortSignal | undefined;
  readonly run?: string;
  readonly onProgress?: (progress: RunProgress) => void;
  /**
   * Called with the result before the run's end is told, so that what is kept of it beside the store is there by then.
   */
  readonly beforeEnd?: (result: RunResult) => Promise<void>;
  /**
   * Called when the run, or a part of it, has begun; what it gives is called when it has ended. Workers keep the lease
   * alive here.
   */
  readonly whileRunning?: (lease: RunLease) => () => void;
}
