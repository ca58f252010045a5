import type { FieldType, Instant, MemberId, Shared } from '../record/index.js';
import { decimalOf } from '../record/index.js';
import type { Giver } from './anchor.js';

/**
 * What settles a conflict: steps that each narrow the candidates, the last being *ask* or an order of members.
 * A combining rule takes every edit into one value; its steps are for what cannot be combined.
 */
export interface Rule {
  readonly combine?: 'sum' | 'union' | 'text' | undefined;
  readonly steps: readonly RuleStep[];
}

export type RuleStep =
  | { readonly step: 'newest'; readonly toleranceSeconds?: number | undefined }
  | { readonly step: 'order'; readonly members: readonly MemberId[] }
  | { readonly step: 'greatest' }
  | { readonly step: 'least' }
  | { readonly step: 'longest' }
  | { readonly step: 'present' }
  | { readonly step: 'ask' };

/** A value that an edit, or the agreed value, puts forward. */
export interface Candidate {
  readonly value: Shared;
  /** The members whose edits say so, in the knot's order of members; for the agreed value, its giver. */
  readonly givers: readonly Giver[];
  readonly at: Instant;
  readonly isAgreed: boolean;
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

/** A person's word comes before every member; an edit comes before the agreed value that the same member gave. */
function rank(candidate: Candidate, members: readonly MemberId[]): number {
  const ranks = candidate.givers.map((giver) => {
    if (giver.kind === 'person') return -1;
    // A computed field has no edits, and a field that was computed once ranks after every member.
    if (giver.kind === 'formula') return members.length;
    const at = members.indexOf(giver.member);
    return at < 0 ? members.length : at;
  });
  return Math.min(...ranks) + (candidate.isAgreed ? 0.5 : 0);
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
