import type { MemberId } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';

/** Tied records whose systems say later that they have worked on what was written there, and have not yet. */

export interface UnacknowledgedCount {
  readonly count: number;
  /** Those that wait for longer than their member may take. */
  readonly late: number;
}

/** @param lateAfter minutes, by member; members that are not in it acknowledge nothing */
export async function unacknowledgedCounts(
  data: SqlConnection,
  knot: string,
  lateAfter: ReadonlyMap<MemberId, number>,
  now: Date,
): Promise<ReadonlyMap<MemberId, UnacknowledgedCount>> {
  if (lateAfter.size === 0) return new Map();
  const rows = (await data.query(
    `select member, count(*)::int as count,
       (count(*) filter (where unacknowledged_since < $2::timestamptz - minutes * interval '1 minute'))::int as late
     from tie join unnest($3::text[], $4::float[]) as m(member, minutes) using (member)
     where knot_id = $1 and unacknowledged_since is not null and not gone group by member`,
    [knot, now, [...lateAfter.keys()], [...lateAfter.values()]],
  )) as ({ readonly member: MemberId } & UnacknowledgedCount)[];
  return new Map(rows.map(({ member, count, late }) => [member, { count, late }]));
}

export interface UnacknowledgedRow {
  readonly record_key: string;
  readonly anchor_id: string;
  readonly title: string;
  readonly unacknowledged_since: Date;
}

/** A page of them, in order of their keys, after one. */
export async function unacknowledgedRecords(
  data: SqlConnection,
  knot: string,
  member: MemberId,
  after: string,
  limit: number,
): Promise<readonly UnacknowledgedRow[]> {
  return (await data.query(
    `select record_key, anchor_id, title, unacknowledged_since from tie join anchor on anchor.id = tie.anchor_id
     where tie.knot_id = $1 and member = $2 and unacknowledged_since is not null and not gone and record_key > $3
     order by record_key limit $4`,
    [knot, member, after, limit],
  )) as UnacknowledgedRow[];
}
