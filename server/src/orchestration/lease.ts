import type { RunCause } from '@anchor-knot/contracts';
import type { Instant } from '@anchor-knot/core';
import type { AnchorRange, PlanContext, SharedPhase, TakenUp } from './batch.js';

/** Who may do a run, or a batch of one: asked for, given for a while, and lost. */

/**
 * The right to run a knot. Every change of the store checks it, so a worker that was presumed dead cannot write any
 * more.
 */
export interface RunLease {
  readonly run: string;
  readonly knot: string;
  /** Fencing token: grows with every run of the knot. */
  readonly token: number;
  /** The part of the run that it is for, with a token of its own; the whole run where it is left out. */
  readonly batch?: { readonly place: number; readonly token: number } | undefined;
}

export type RunKind = 'run' | 'dry run';

export interface RunRequest {
  readonly run: string;
  readonly knot: string;
  readonly knotVersion: number;
  readonly kind: RunKind;
  readonly startedBy: string;
  /** A person, when left out. */
  readonly cause?: RunCause | undefined;
  readonly now: Instant;
  readonly leaseMs: number;
}

export type BegunRun = RunLease & { readonly takenUp?: TakenUp | undefined };

/** Thrown when the lease is gone: another worker took over, or the run was ended. */
export class LeaseLost extends Error {
  constructor(run: string) {
    super(`run ${run} is no longer this worker's`);
    this.name = 'LeaseLost';
  }
}

/** What a worker asks for when it is free. */
export interface BatchRequest {
  /** Of this run only; of any where it is left out. */
  readonly run?: string | undefined;
  /** Not of these: whoever asks drives them, and takes parts of them as it is. */
  readonly except?: readonly string[] | undefined;
  readonly now: number;
  readonly leaseMs: number;
}

/** A part of a run, and the right to do it. */
export interface TakenBatch {
  readonly lease: RunLease;
  readonly phase: SharedPhase;
  readonly range: AnchorRange;
  readonly context: PlanContext;
  readonly knotVersion: number;
  readonly kind: RunKind;
  /** A worker had begun with it, and is gone. */
  readonly isTakenOver: boolean;
}
