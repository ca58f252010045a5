import { type Instant, type Knot, quietUntil, type Timing } from '@anchor-knot/core';
import type { MemberCursor } from '../orchestration/stored.js';
import type { Hearing } from '../persistence/tables/webhooks.js';

type Reading = Pick<MemberCursor, 'readAt' | 'toldReadAt'>;

const minuteMs = 60_000;

export interface Freshness {
  readonly member: string;
  /** Everything that changed there before is known here; `undefined` where it was never read. */
  readonly knownAt: Instant | undefined;
}

/**
 * Up to when the changes of each member are known. Of one that tells by itself that is now, as long as what it told
 * last was read since.
 * @param hearings of systems that tell, as far as they do
 */
export function freshnessOf(
  { members }: Knot,
  timing: Timing,
  cursors: ReadonlyMap<string, Reading>,
  hearings: readonly Hearing[],
  now: Instant,
): readonly Freshness[] {
  return members.map(({ id, system, object }) => {
    const readAt = cursors.get(id)?.readAt;
    const hearing = hearings.find((heard) => heard.system === system && heard.object === object);
    const isHeard = timing.triggers[id]?.kind === 'events' && hearing !== undefined;
    return { member: id, knownAt: isHeard && isAllRead(hearing, cursors.get(id)) ? now : readAt };
  });
}

/** Whether what a member told last was read since: as a part of what changed, or by its key. */
export function isAllRead({ lastAt }: Pick<Hearing, 'lastAt'>, reading: Reading | undefined): boolean {
  if (!reading) return false;
  return (lastAt?.getTime() ?? 0) <= Math.max(reading.readAt, reading.toldReadAt ?? 0);
}

/**
 * The member that is furthest behind; `undefined` where the knot is not later than it may be. In quiet hours, and for
 * so long after them, it is not late.
 */
export function latestMember(
  timing: Timing,
  freshness: readonly Freshness[],
  now: Instant,
): (Freshness & { readonly knownAt: Instant }) | undefined {
  const { lateAfterMinutes } = timing;
  if (lateAfterMinutes === undefined) return undefined;
  const isQuiet = [now, now - lateAfterMinutes * minuteMs].some((at) => quietUntil(timing, at) !== undefined);
  if (isQuiet) return undefined;
  const known = freshness.flatMap(({ member, knownAt }) => (knownAt === undefined ? [] : [{ member, knownAt }]));
  const [furthest] = known.toSorted((one, other) => one.knownAt - other.knownAt);
  return furthest && now - furthest.knownAt > lateAfterMinutes * minuteMs ? furthest : undefined;
}
