import { acknowledgedId, type CompiledKnot, outcomeStateId } from '../definition/index.js';
import { isBlank, type MemberId, type Raw, rawEqual } from '../record/index.js';
import type { Anchor, Reading, Tie } from './anchor.js';

/**
 * Takes up what was read beside the shared fields: that a system has acknowledged, and that somebody has set a record
 * back, so that it is taken again. What a system refused of that thing is then tried again.
 */
export function observe(knot: CompiledKnot, anchor: Anchor, readings: ReadonlyMap<MemberId, Reading>): Anchor {
  const again = new Set<MemberId>();
  const ties = anchor.ties.map((tie) => {
    const reading = readings.get(tie.member);
    return reading ? observeTie(knot, tie, reading, again) : tie;
  });
  if (ties.every((tie, place) => tie === anchor.ties[place])) return anchor;
  if (again.size === 0) return { ...anchor, ties };
  return {
    ...anchor,
    ties: ties.map((tie) => (tie.parked && again.has(tie.member) ? withoutParked(tie) : tie)),
    parkedCreates: Object.fromEntries(Object.entries(anchor.parkedCreates).filter(([member]) => !again.has(member))),
  };
}

function observeTie(knot: CompiledKnot, tie: Tie, { fields }: Reading, again: Set<MemberId>): Tie {
  const { outcomes, acknowledges } = knot.member(tie.member);
  let observed = tie;
  for (const { of, state } of outcomes ?? []) {
    const present = state && fields[outcomeStateId(of)];
    if (!state || present === undefined || rawEqual(tie.seen[outcomeStateId(of)], present)) continue;
    observed = { ...observed, seen: { ...observed.seen, [outcomeStateId(of)]: present } };
    if (!tie.outcomes?.[of]?.told || !says(present, state.ready)) continue;
    again.add(of);
    observed = { ...observed, outcomes: { ...observed.outcomes, [of]: { isDue: true } } };
  }
  const acknowledged = acknowledges && fields[acknowledgedId];
  if (acknowledged === undefined || rawEqual(tie.seen[acknowledgedId], acknowledged)) return observed;
  const { unacknowledgedSince: since, ...rest } = observed;
  const seen = { ...observed.seen, [acknowledgedId]: acknowledged };
  return isBlank(acknowledged) && since !== undefined
    ? { ...rest, seen, unacknowledgedSince: since }
    : { ...rest, seen };
}

function says(present: Raw, value: string | undefined): boolean {
  return value !== undefined && typeof present !== 'object' && String(present).trim() === value.trim();
}

function withoutParked({ parked: _, ...tie }: Tie): Tie {
  return tie;
}
