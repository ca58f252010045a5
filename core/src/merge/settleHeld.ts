import type { CompiledKnot } from '../definition/index.js';
import type { FieldId, Instant, Raw, Shared } from '../record/index.js';
import { anchorId, sameShared } from '../record/index.js';
import type { Anchor } from './anchor.js';
import { heldFingerprint, mergeAnchor } from './mergeAnchor.js';

export interface HeldChoice {
  readonly field: FieldId;
  /** What the person saw; see {@link heldFingerprint}. */
  readonly fingerprint: string;
  /** The value chosen: one of those shown, or what was agreed before. */
  readonly value: Shared;
  readonly person: string;
  readonly at: Instant;
}

export type SettledHeld =
  | { readonly ok: true; readonly anchor: Anchor }
  | { readonly ok: false; readonly reason: 'not held' | 'changed meanwhile' | 'not a choice' | 'circle' };

/**
 * A person's choice among the values of a held field. The chosen value becomes the agreed one, and every tie has
 * then seen what the person saw; writing it is the next run's work. Refused when the values shown are not the present
 * ones.
 */
export function settleHeld(knot: CompiledKnot, anchor: Anchor, choice: HeldChoice): SettledHeld {
  const held = mergeAnchor({ knot, anchor, readings: new Map(), now: choice.at }).held.find(
    ({ field }) => field === choice.field,
  );
  if (!held) return { ok: false, reason: 'not held' };
  if (heldFingerprint(held) !== choice.fingerprint) return { ok: false, reason: 'changed meanwhile' };
  const shown = [
    ...held.candidates.map(({ value }) => value),
    ...(held.base ? [held.base.value] : []),
    // What must not stand under that one may stand at the top.
    ...(held.isCircle ? [null] : []),
  ];
  if (!shown.some((value) => sameShared(value, choice.value))) return { ok: false, reason: 'not a choice' };
  if (standsUnderItself(knot, anchor, choice)) return { ok: false, reason: 'circle' };
  const over = held.candidates
    .filter(({ value }) => !sameShared(value, choice.value))
    .map(({ value, givers }) => ({ value, member: givers[0]?.kind === 'member' ? givers[0].member : undefined }));
  const ties = anchor.ties.map((tie) => {
    const ahead = tie.ahead[choice.field];
    if (!ahead || tie.gone || tie.rejected || !readable(knot, tie.member, choice.field, ahead.raw, choice.value))
      return tie;
    const { [choice.field]: _, ...rest } = tie.ahead;
    return { ...tie, ahead: rest, seen: { ...tie.seen, [choice.field]: ahead.raw } };
  });
  const agreed = {
    value: choice.value,
    by: { kind: 'person', name: choice.person },
    at: choice.at,
    why: { kind: 'person', name: choice.person, over },
  } as const;
  return { ok: true, anchor: { ...anchor, ties, agreed: { ...anchor.agreed, [choice.field]: agreed } } };
}

function standsUnderItself(knot: CompiledKnot, { id }: Anchor, { field, value }: HeldChoice): boolean {
  const isLevel = knot.fields.some((one) => one.id === field && one.levels);
  return isLevel && typeof value === 'string' && knot.levels?.isCircle(id, anchorId(value)) === true;
}

/** A value that cannot be read stays ahead: nobody has seen what it means. */
function readable(knot: CompiledKnot, member: string, field: FieldId, raw: Raw, agreed: Shared): boolean {
  const lens = knot.fields.find(({ id }) => id === field)?.mappings.get(member)?.lens;
  return lens?.inbound(raw, agreed).ok ?? false;
}
