import type { Instant, MemberId } from '@anchor-knot/core';

/** Every record of a member is in exactly one of these lists. */
export interface MemberAccount {
  readonly tied: number;
  readonly waiting: number;
  readonly rejected: number;
  readonly aside: number;
  readonly untied: number;
  readonly filtered: number;
}

export const emptyAccount: MemberAccount = { tied: 0, waiting: 0, rejected: 0, aside: 0, untied: 0, filtered: 0 };

export interface MemberTally {
  readonly read: number;
  readonly create: number;
  readonly update: number;
  readonly archive: number;
  readonly delete: number;
  readonly 'write back': number;
  readonly leftAlone: number;
  readonly held: number;
  readonly rejected: number;
  readonly waiting: number;
  /** How the run left the records of the member: each is in one of these, tied or rejected or waiting. */
  readonly accounts: MemberAccount;
  readonly written: number;
  readonly failed: number;
}

export type MemberTallies = Readonly<Record<MemberId, MemberTally>>;

/** A page of a listing, one record by its key, records by a value, or a batch of writes. */
export type CallKind = 'page' | 'record' | 'search' | 'write';

/** Calls of a kind. Times are those of whoever waits: tries and pauses are part of them; several go on at once. */
export interface CallCount {
  readonly count: number;
  /** Those that the system could not be worked with. */
  readonly failed: number;
  readonly ms: number;
  readonly longestMs: number;
}

/** What was asked of each member's system. */
export type CallCounts = Readonly<Record<MemberId, Partial<Record<CallKind, CallCount>>>>;

export type RunPhase = 'resolving' | 'reading' | 'matching' | 'planning' | 'writing' | 'done';

export interface RunProgress {
  readonly phase: RunPhase;
  readonly done: number;
  readonly total?: number | undefined;
  readonly tally: MemberTallies;
  /** What was done so far, in order, and how long it took. */
  readonly steps?: readonly { readonly phase: RunPhase; readonly ms: number }[];
  /** What was asked of each member's system. */
  readonly calls?: CallCounts;
}

export interface MemberTrouble {
  readonly member: MemberId;
  readonly code: string;
  readonly words: string;
  readonly advice: string;
}

export interface RunResult {
  readonly state:
    'succeeded' | 'succeeded in part' | 'stopped by a guard' | 'stopped by a check' | 'stopped' | 'failed';
  readonly progress: RunProgress;
  readonly troubles: readonly MemberTrouble[];
  readonly guards: readonly { readonly member: MemberId; readonly says: string }[];
  readonly words?: string | undefined;
  /** What was not done and may be when it is tried again, without anything being changed; by member. */
  readonly tryAgain: readonly MemberId[];
  /** Members of which all that was asked for was read. */
  readonly readWell: readonly MemberId[];
  /** Members of which the records that were named, and no others, were read. */
  readonly readByName: readonly MemberId[];
  /** How many records were read of members of which only what changed was; of the others nothing can be said. */
  readonly changed: ReadonlyMap<MemberId, number>;
  readonly now: Instant;
}
