import type { AnchorId, MemberId } from '@anchor-knot/core';
import type { CallCounts, MemberTallies, MemberTrouble } from './runResult.js';

/** What the planning of anchors has to know of the rest of its run. */
export interface PlanContext {
  readonly blocked: ReadonlyMap<AnchorId, ReadonlySet<MemberId>>;
  /** Members whose systems are in trouble: nothing is written there in this run. */
  readonly troubled: ReadonlySet<MemberId>;
  /**
   * Members of which some records could not be read: whether a thing is there already is not known, so nothing is
   * created there.
   */
  readonly partlyRead: ReadonlySet<MemberId>;
  /** Members in which a creation for an anchor may have happened, and nobody knows. */
  readonly unclear: ReadonlyMap<AnchorId, ReadonlySet<MemberId>>;
}

/** A run that another worker began, and where it stood. */
export interface TakenUp {
  /** JSON that whoever drives runs writes and reads; null where it is too much to be kept. */
  readonly soFar: unknown;
  readonly context: PlanContext;
}

/** Anchors in order of their ids; from the first and to the last where an end is left out. */
export interface AnchorRange {
  /** Begins after it. */
  readonly after?: AnchorId | undefined;
  /** Ends with it. */
  readonly upTo?: AnchorId | undefined;
}

/** Phases of which each part can be done by another worker. */
export type SharedPhase = 'planning' | 'writing';

/** What became of some anchors. */
export interface WorkDone {
  /** How many anchors were planned or written. */
  readonly done: number;
  /** How many of them have something to be written. */
  readonly toWrite: number;
  readonly tally: MemberTallies;
  /** Records that are updated while a field of their anchor is held, by member. */
  readonly updatedButHeld: Readonly<Record<MemberId, number>>;
  /** Records that changed between reading and writing: they are read and merged again. */
  readonly raced: readonly { readonly anchor: AnchorId; readonly member: MemberId }[];
  /** Anchors that somebody changed between planning and storing: nothing was written, they are planned anew. */
  readonly late: readonly AnchorId[];
  readonly troubles: readonly MemberTrouble[];
  /** Members that certainly did not take a write, and may take it another time. */
  readonly undone: readonly MemberId[];
  readonly calls: CallCounts;
}

export const nothingDone: WorkDone = {
  done: 0,
  toWrite: 0,
  tally: {},
  updatedButHeld: {},
  raced: [],
  late: [],
  troubles: [],
  undone: [],
  calls: {},
};

/** What became of all parts of a phase, but for what a run counts of them elsewhere. */
export function allDone(parts: readonly WorkDone[]): Omit<WorkDone, 'tally' | 'calls'> {
  const updatedButHeld: Record<MemberId, number> = {};
  for (const part of parts)
    for (const [member, count] of Object.entries(part.updatedButHeld))
      updatedButHeld[member] = (updatedButHeld[member] ?? 0) + count;
  return {
    done: parts.reduce((sum, { done }) => sum + done, 0),
    toWrite: parts.reduce((sum, { toWrite }) => sum + toWrite, 0),
    updatedButHeld,
    raced: parts.flatMap(({ raced }) => raced),
    late: parts.flatMap(({ late }) => late),
    troubles: parts.flatMap(({ troubles }) => troubles),
    undone: [...new Set(parts.flatMap(({ undone }) => undone))],
  };
}
