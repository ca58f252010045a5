import type { CompiledKnot, CompiledMember } from '../definition/index.js';
import { type FieldId, isBlank, type MemberId, type Raw, rawEqual } from '../record/index.js';
import type { Reading, Tie, TieEnd } from './anchor.js';

/**
 * What follows from deletions, for the ties of one anchor as they were before this merge took up what was read.
 *
 * It is settled once, by the definition as it is when the deletion is first merged: a later version must not remove
 * what
 * was left long ago. An edit elsewhere, also one that is held or cannot be read, is for a person to weigh; so is one
 * that comes while the removal is still to be done. A record that comes back ends what was to follow, and has made anew
 * what was deleted because of it.
 */
export function withConsequences(
  knot: CompiledKnot,
  before: readonly Tie[],
  ties: readonly Tie[],
  readings: ReadonlyMap<MemberId, Reading>,
): readonly Tie[] {
  if (!before.some(({ gone }) => gone)) return ties;
  const isRevived = before.some(({ gone, member }) => gone === true && readings.has(member));
  const edited = before.filter((tie) => !tie.gone && isEdited(knot, tie, readings.get(tie.member)));
  const isUnsettled = before.some((tie) => !tie.gone && holdsEdit(knot, tie));
  return ties.map((tie) => {
    if (!tie.gone) return tie;
    if (tie.end === undefined) {
      const follows = knot.member(tie.member).whenDeleted ?? 'nothing';
      return { ...tie, end: isRevived ? 'keep others' : endOf(follows, edited.length > 0 || isUnsettled) };
    }
    if (isRevived && tie.end === 'deleted') return { ...tie, end: 'to be made anew' };
    const removal = removalOf(tie.end);
    if (!removal) return tie;
    if (isRevived) return { ...tie, end: 'keep others' };
    const wouldGo = edited.some(({ member }) => knot.member(member).may[removal] === true);
    return wouldGo ? { ...tie, end: 'ask' } : tie;
  });
}

/** What a deletion does to the other records of its thing, where it does anything. */
export function removalOf(end: TieEnd | undefined): 'archive' | 'delete' | undefined {
  return end === 'archive others' ? 'archive' : end === 'delete others' ? 'delete' : undefined;
}

function endOf(follows: NonNullable<CompiledMember['whenDeleted']>, isEdited: boolean): TieEnd {
  if (follows === 'nothing') return 'keep others';
  if (follows === 'ask' || isEdited) return 'ask';
  return follows === 'archive' ? 'archive others' : 'delete others';
}

/** Whether its record was edited since it was last read; a record that has just come is an edit as a whole. */
function isEdited(knot: CompiledKnot, tie: Tie, reading: Reading | undefined): boolean {
  if (!reading) return false;
  return Object.entries(reading.fields).some(([field, raw]) => {
    if (!gives(knot, tie.member, field)) return false;
    const known: Raw | undefined = tie.ahead[field] ? tie.ahead[field].raw : tie.seen[field];
    return known === undefined ? !isBlank(raw) : !rawEqual(known, raw);
  });
}

/** Whether an edit of its record waits: it is held, cannot be read, or its record is rejected. */
function holdsEdit(knot: CompiledKnot, { member, ahead }: Tie): boolean {
  return Object.keys(ahead).some((field) => gives(knot, member, field));
}

function gives(knot: CompiledKnot, member: MemberId, field: FieldId): boolean {
  return knot.fields.find(({ id }) => id === field)?.mappings.get(member)?.lens.reads === true;
}
