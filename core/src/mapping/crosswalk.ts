import type { MemberId } from '../record/index.js';
import type { Scalar } from './step.js';

/**
 * A crosswalk: each row says which values of each member mean one shared value. Of several values of a
 * member, the first is the one that is written. A member's value may stand in several rows: then the
 * agreed value decides which is meant, and without one the first row does.
 */
export interface Crosswalk {
  readonly name: string;
  readonly rows: readonly CrosswalkRow[];
}

export interface CrosswalkRow {
  readonly shared: string;
  readonly values: Readonly<Record<MemberId, readonly Scalar[]>>;
}
