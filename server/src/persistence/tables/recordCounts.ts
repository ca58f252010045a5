import type { MemberId } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';

/** How many records of a member are in a list, kept by triggers as differences: nothing is counted to know it. */
export type CountedList = 'tied' | 'filtered';

export async function recordCounts(
  db: SqlConnection,
  knot: string,
  list: CountedList,
): Promise<ReadonlyMap<MemberId, number>> {
  const rows = (await db.query(
    `select member, sum(difference)::int as count from record_count where knot_id = $1 and list = $2
     group by member having sum(difference) <> 0`,
    [knot, list],
  )) as { member: MemberId; count: number }[];
  return new Map(rows.map(({ member, count }) => [member, count]));
}

/** Makes one row of many. What others are adding in the same moment stays beside it. */
export async function addUpCounts(db: SqlConnection, knot: string): Promise<void> {
  await db.query(
    `with gone as (delete from record_count where knot_id = $1 returning member, list, difference)
     insert into record_count select $1, member, list, sum(difference) from gone group by member, list
       having sum(difference) <> 0`,
    [knot],
  );
}
