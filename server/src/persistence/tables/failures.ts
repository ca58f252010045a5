import { type DecisionKind, failureKinds } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** What failed and waits to be repaired, over all runs, by why it did. */

export interface FailureGroup {
  readonly knot: string;
  readonly kind: DecisionKind;
  readonly member: string | null;
  readonly field: string | null;
  readonly reason: string;
  readonly count: number;
  readonly first: Date;
  readonly latest: Date;
  /** How often the one that was tried most was tried. */
  readonly attempts: number;
  /** One of them, and what it would be decided on. */
  readonly decision: string;
  readonly fingerprint: string;
}

const kinds = failureKinds.map((kind) => `'${kind}'`).join(', ');

/** The largest groups first. */
export async function failureGroups(
  db: SqlConnection,
  knot: string | undefined,
  limit: number,
): Promise<readonly FailureGroup[]> {
  return (await db.query(
    `select knot_id as knot, kind, member, field, reason, count(*)::int as count, min(opened_at) as first,
       max(opened_at) as latest, max(attempts) as attempts, min(id)::text as decision,
       (array_agg(fingerprint order by id))[1] as fingerprint
     from decision where closed_at is null and reason is not null and kind in (${kinds})
       and ($1::text is null or knot_id = $1)
     group by knot_id, kind, member, field, reason order by count(*) desc, min(opened_at) limit $2`,
    [knot ?? null, limit],
  )) as FailureGroup[];
}

export type GroupName = Pick<FailureGroup, 'knot' | 'kind' | 'reason'> & {
  readonly member: string;
  readonly field: string | null;
};

/** The decisions of a group, the oldest first. */
export async function decisionsOfGroup(
  db: SqlConnection,
  { knot, kind, member, field, reason }: GroupName,
  limit: number,
): Promise<readonly { readonly id: string; readonly title: string | null }[]> {
  return (await db.query(
    `select d.id::text, a.title from decision d left join anchor a on a.id = d.anchor_id
     where d.knot_id = $1 and d.kind = $2 and d.member = $3 and d.field is not distinct from $4
       and md5(d.reason) = md5($5) and d.reason = $5 and d.closed_at is null order by d.id limit $6`,
    [knot, kind, member, field, reason, limit],
  )) as { id: string; title: string | null }[];
}
