import type { GuardBreach, Instant, MemberId } from '@anchor-knot/core';
import type { PlanContext, WorkDone } from './batch.js';
import type { DecisionDraft } from './decisionDraft.js';
import type { MemberReading } from './readMembers.js';
import type { CallCounts, MemberTallies, MemberTrouble, RunPhase } from './runResult.js';
import type { OutsideRecord, RecordRef } from './stored.js';

/** What is known when everything is read and matched, beside what is staged: all that planning and the end need. */
export interface Matched {
  readonly context: PlanContext;
  /** How many ties each member has, before planning settles what needs no write. */
  readonly ties: ReadonlyMap<MemberId, number>;
  /** The records that were outside of anchors when the run began, or have left since. */
  readonly known: readonly RecordRef[];
  /** Those that stay outside, and the decisions about them. */
  readonly staying: readonly OutsideRecord[];
  readonly decisions: readonly DecisionDraft[];
}

export type Planned = Pick<WorkDone, 'updatedButHeld' | 'late' | 'toWrite'>;

/** A reading as it is kept: what it was needed for until the matching is left out. */
type KeptReading = Omit<MemberReading, 'files' | 'deleted'> & { readonly files: readonly string[] };

/**
 * How far a run has come whose phases are shared, as JSON: another worker goes on with it where the one that drove it
 * has died. What is staged, what is planned and its parts are in tables of their own.
 */
export interface RunSoFar {
  readonly begunAt: Instant;
  readonly phases: readonly { readonly phase: RunPhase; readonly at: Instant }[];
  readonly tally: MemberTallies;
  readonly calls: CallCounts;
  readonly troubles: readonly MemberTrouble[];
  readonly notes: readonly MemberTrouble[];
  readonly shortListings: readonly GuardBreach[];
  readonly readings: readonly (readonly [MemberId, KeptReading])[];
  readonly ties: readonly (readonly [MemberId, number])[];
  readonly known: readonly RecordRef[];
  readonly staying: readonly OutsideRecord[];
  readonly decisions: readonly DecisionDraft[];
  /** What came of the planning, when that is done. */
  readonly planned: Planned | null;
}

export function keptReading({ deleted: _, files, ...reading }: MemberReading): KeptReading {
  return { ...reading, files: [...files] };
}

export function readingOf({ files, ...reading }: KeptReading): MemberReading {
  // JSON has no undefined: what is not there was not there.
  const { cursor, trouble, stopping } = reading;
  return { ...reading, cursor, trouble, stopping, files: new Set(files), deleted: [] };
}

export function matchedSoFar({ ties, known, staying, decisions }: RunSoFar, context: PlanContext): Matched {
  return { context, ties: new Map(ties), known, staying, decisions };
}
