import type { CompiledKnot } from '../knot/index.js';
import type { Anchor } from '../merge/index.js';
import type { MemberId } from '../record/index.js';

/** What the next run would do after a record was untied from its anchor. */
export interface Untying {
  /** The rest has no record in that member any more, and a new one would be created there. */
  readonly createsHere: boolean;
  /** The record would be a thing of its own; otherwise it is kept out, because nothing may start there. */
  readonly starts: boolean;
  /** Members in which the thing of its own would be created. */
  readonly createsIn: readonly MemberId[];
}

/** @returns what follows from untying; `undefined` where the member's record is the only one, or there is none */
export function untyingOf(knot: CompiledKnot, { ties, beganIn }: Anchor, member: MemberId): Untying | undefined {
  const alive = ties.filter(({ gone }) => !gone).map((tie) => tie.member);
  if (!alive.includes(member) || alive.length < 2) return undefined;
  const creates = (id: MemberId, from: readonly MemberId[]): boolean => {
    const { may, onlyFrom } = knot.member(id);
    return may.create && (!onlyFrom || onlyFrom.some((one) => from.includes(one)));
  };
  const starts = knot.member(member).startsAnchors;
  return {
    createsHere: creates(member, beganIn),
    starts,
    createsIn: starts ? knot.members.flatMap(({ id }) => (id !== member && creates(id, [member]) ? [id] : [])) : [],
  };
}
