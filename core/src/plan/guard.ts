import type { CompiledKnot } from '../definition/index.js';
import type { MemberId } from '../record/index.js';

/** What a plan would do in one member. */
export interface MemberCounts {
  readonly creates: number;
  readonly updates: number;
  /** Archived and deleted. */
  readonly removals: number;
  /** Records of this member that are tied. */
  readonly ties: number;
}

export interface GuardBreach {
  readonly member: MemberId;
  readonly says: string;
}

/** The guards that a plan goes over. Over a guard nothing is written. */
export function breachedGuards(
  knot: CompiledKnot,
  counts: ReadonlyMap<MemberId, MemberCounts>,
): readonly GuardBreach[] {
  return knot.members.flatMap(({ id, guards }) => {
    const { creates = 0, updates = 0, removals = 0, ties = 0 } = counts.get(id) ?? {};
    const breaches: GuardBreach[] = [];
    if (guards.creates !== undefined && creates > guards.creates)
      breaches.push({ member: id, says: `${creates} records would be created; the guard allows ${guards.creates}` });
    if (guards.updates !== undefined && updates > guards.updates)
      breaches.push({ member: id, says: `${updates} records would be updated; the guard allows ${guards.updates}` });
    if (guards.removals !== undefined && removals > guards.removals)
      breaches.push({
        member: id,
        says: `${removals} records would be archived or deleted; the guard allows ${guards.removals}`,
      });
    const percent = ties === 0 ? 0 : (updates / ties) * 100;
    if (guards.updatesPercent !== undefined && percent > guards.updatesPercent) {
      breaches.push({
        member: id,
        says: `${updates} of ${ties} records would be updated; the guard allows ${guards.updatesPercent} percent`,
      });
    }
    return breaches;
  });
}
