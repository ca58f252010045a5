import type { Rule, RuleStep } from '../definition/index.js';
import type { FieldType, Instant, MemberId, Shared } from '../record/index.js';
import { decimalOf } from '../record/index.js';
import type { Giver } from './anchor.js';

/** A value that edits, or the agreed value, put forward. */
export interface Candidate {
  readonly value: Shared;
  /** Everybody who gave it: whose edits say so, in the knot's order of members, and the givers of the agreed value. */
  readonly givers: readonly Giver[];
  /** The latest of the times at which they gave it. */
  readonly at: Instant;
  /** Whether it is what was agreed before. */
  readonly isAgreed: boolean;
  /** The members whose edits say so now. */
  readonly editedIn: readonly MemberId[];
}

export interface RuleOutcome {
  /** One candidate when the rule settled it; several when a person must choose. */
  readonly candidates: readonly Candidate[];
  /** The step that left one candidate. */
  readonly settledBy?: RuleStep['step'];
}

const defaultToleranceSeconds = 2;

/** Narrows the candidates step by step. Never gives an empty list for a non-empty one. */
export function applyRule(rule: Rule, type: FieldType, candidates: readonly Candidate[]): RuleOutcome {
  let rest = candidates;
  for (const step of rule.steps) {
    if (step.step === 'ask') return { candidates: rest };
    rest = narrow(step, type, rest);
    if (rest.length === 1) return { candidates: rest, settledBy: step.step };
  }
  return { candidates: rest };
}

function narrow(
  step: Exclude<RuleStep, { step: 'ask' }>,
  type: FieldType,
  candidates: readonly Candidate[],
): readonly Candidate[] {
  switch (step.step) {
    case 'newest': {
      const latest = Math.max(...candidates.map(({ at }) => at));
      const tolerance = (step.toleranceSeconds ?? defaultToleranceSeconds) * 1000;
      return candidates.filter(({ at }) => at >= latest - tolerance);
    }
    case 'order':
      return bestBy(candidates, (candidate) => -rank(candidate, step.members));
    case 'greatest':
      return extreme(candidates, type, 1);
    case 'least':
      return extreme(candidates, type, -1);
    case 'longest':
      return bestBy(candidates, ({ value }) => lengthOf(value));
    case 'present': {
      const filled = candidates.filter(({ value }) => value !== null);
      return filled.length > 0 ? filled : candidates;
    }
    default:
      throw new Error(`unknown rule step ${JSON.stringify(step satisfies never)}`);
  }
}

/**
 * The place of a candidate's best-placed giver. A person's word comes before every member; an edit comes before the
 * agreed value that the same member gave.
 */
function rank({ givers, editedIn }: Candidate, members: readonly MemberId[]): number {
  const ranks = givers.map((giver) => {
    if (giver.kind === 'person') return -1;
    // A computed field has no edits; what was computed once, or came from a series, ranks after every member.
    if (giver.kind === 'formula' || giver.kind === 'series') return members.length;
    const place = members.indexOf(giver.member);
    return (place < 0 ? members.length : place) + (editedIn.includes(giver.member) ? 0 : 0.5);
  });
  return Math.min(...ranks);
}

function bestBy(candidates: readonly Candidate[], score: (candidate: Candidate) => number): readonly Candidate[] {
  const best = Math.max(...candidates.map(score));
  return candidates.filter((candidate) => score(candidate) === best);
}

function extreme(candidates: readonly Candidate[], type: FieldType, sign: 1 | -1): readonly Candidate[] {
  const filled = candidates.filter(({ value }) => value !== null);
  if (filled.length === 0) return candidates;
  const best = filled.reduce((a, b) => (sign * compareShared(type, b.value, a.value) > 0 ? b : a));
  return filled.filter(({ value }) => compareShared(type, value, best.value) === 0);
}

/** Numbers by size; dates and instants by time (their normal forms sort so); everything else by code units. */
export function compareShared(type: FieldType, a: Shared, b: Shared): number {
  if (type === 'number') {
    const x = decimalOf(String(a));
    const y = decimalOf(String(b));
    if (x && y) return x.comparedTo(y);
  }
  const x = String(a);
  const y = String(b);
  return x < y ? -1 : x > y ? 1 : 0;
}

function lengthOf(value: Shared): number {
  if (value === null) return 0;
  return typeof value === 'string' ? [...value].length : Array.isArray(value) ? value.length : 1;
}
