import { anchorId, type FieldId, type References, sameShared } from '../record/index.js';
import type { Agreed } from './anchor.js';
import type { FieldTie } from './fieldMerge.js';

/**
 * What is agreed of a reference, as it is to be read now. Things are merged and parted, and become known, without an
 * edit of what refers to them: the agreed thing is the one that its giver's record means by what was seen there.
 * @param agreed what was agreed when it was stored
 */
export function referredNow(
  field: FieldId,
  agreed: Agreed | undefined,
  ties: readonly FieldTie[],
  references: References,
): Agreed | undefined {
  if (!agreed) return undefined;
  const { by, value } = agreed;
  const giver = by.kind === 'member' ? ties.find(({ tie }) => tie.member === by.member) : undefined;
  const seen = giver?.tie.seen[field];
  const means = giver?.lens.reads && seen !== undefined ? giver.lens.inbound(seen, value) : undefined;
  const now = means?.ok ? means.value : typeof value === 'string' ? references.current(anchorId(value)) : value;
  if (sameShared(now, value)) return agreed;
  return giver
    ? { ...agreed, value: now, why: { kind: 'reference', member: giver.tie.member } }
    : { ...agreed, value: now };
}
