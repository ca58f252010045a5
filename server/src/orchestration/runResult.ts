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
  readonly leftAlone: number;
  readonly held: number;
  readonly rejected: number;
  readonly waiting: number;
  /** How the run left the records of the member: each is in one of these, tied or rejected or waiting. */
  readonly accounts: MemberAccount;
  readonly written: number;
  readonly failed: number;
}

export interface RunProgress {
  readonly phase: 'resolving' | 'reading' | 'matching' | 'planning' | 'writing' | 'done';
  readonly done: number;
  readonly total?: number | undefined;
  readonly tally: Readonly<Record<MemberId, MemberTally>>;
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
  readonly now: Instant;
}
