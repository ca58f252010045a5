import { type DecisionKind, decisionKindNames } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';

/** Decisions as people look through them. */

export interface DecisionViewRow {
  id: string;
  knot_id: string;
  kind: DecisionKind;
  anchor_id: string | null;
  title: string | null;
  member: string | null;
  record_key: string | null;
  field: string | null;
  says: string;
  detail: unknown;
  fingerprint: string;
  opened_at: Date;
}

const columns =
  'd.id, d.knot_id, d.kind, d.anchor_id, a.title, d.member, d.record_key, d.field, d.says, d.detail, ' +
  'd.fingerprint, d.opened_at';

const kindsInOrder = decisionKindNames.map((kind) => `'${kind}'`).join(', ');
const order = (row: string): string => `array_position(array[${kindsInOrder}], ${row}.kind)`;

/** What was put off comes after what was not, the longest first. */
const place = (row: string): string => `coalesce(${row}.put_off_at, '-infinity'), ${order(row)}, ${row}.id`;

/**
 * A page of what waits, of one knot or all, of one kind or all.
 * @param after the decision that was last on the page before, wherever it is by now; from the first one when left out
 */
export async function waitingDecisions(
  db: SqlConnection,
  { knot, kind }: { readonly knot: string | undefined; readonly kind: string | undefined },
  after: number | undefined,
  limit: number,
): Promise<readonly DecisionViewRow[]> {
  return (await db.query(
    `select ${columns} from decision d left join anchor a on a.id = d.anchor_id
     where d.closed_at is null and ($1::text is null or d.knot_id = $1) and ($2::text is null or d.kind = $2)
       and ($3::bigint is null or (${place('d')}) > (select ${place('last')} from decision last where last.id = $3))
     order by ${place('d')} limit $4`,
    [knot ?? null, kind ?? null, after ?? null, limit],
  )) as DecisionViewRow[];
}

/** How many decisions of each kind wait, of one knot or all. */
export async function waitingKinds(
  db: SqlConnection,
  knot: string | undefined,
): Promise<{ kind: DecisionKind; count: number }[]> {
  return (await db.query(
    `select d.kind, count(*)::int as count from decision d
     where d.closed_at is null and ($1::text is null or d.knot_id = $1) group by d.kind order by min(${order('d')})`,
    [knot ?? null],
  )) as { kind: DecisionKind; count: number }[];
}

/** Open decisions on whether a record belongs to an anchor, of those `d`. */
export const namesAnchor = (anchor: string): string =>
  `d.kind = 'unsure match' and d.closed_at is null and d.detail @> jsonb_build_object('candidates', ` +
  `jsonb_build_array(jsonb_build_object('anchor', ${anchor}::text)))`;

/** Open decisions of an anchor, and on whether a record belongs to it. */
export async function decisionsAbout(db: SqlConnection, anchor: string): Promise<readonly DecisionViewRow[]> {
  return (await db.query(
    `select ${columns} from decision d left join anchor a on a.id = d.anchor_id
     where (d.anchor_id = $1 and d.closed_at is null) or (${namesAnchor('$1')}) order by d.id`,
    [anchor],
  )) as DecisionViewRow[];
}

export interface DuplicateRow {
  id: string;
  member: string;
  says: string;
  anchor_id: string | null;
  title: string | null;
  detail: { keys: string[]; tiedKey: string | null };
  fingerprint: string;
  opened_at: Date;
}

/** A page of records of one system that seem to be one thing, after a decision. */
export async function waitingDuplicates(
  db: SqlConnection,
  knot: string,
  after: number,
  limit: number,
): Promise<readonly DuplicateRow[]> {
  return (await db.query(
    `select d.id, d.member, d.says, d.anchor_id, a.title, d.detail, d.fingerprint, d.opened_at from decision d
     left join anchor a on a.id = d.anchor_id
     where d.knot_id = $1 and d.kind = 'duplicate' and d.closed_at is null and d.id > $2 order by d.id limit $3`,
    [knot, after, limit],
  )) as DuplicateRow[];
}

/** How many groups of duplicates wait, and how many records are set aside. */
export async function countDuplicates(
  db: SqlConnection,
  knot: string,
): Promise<{ readonly total: number; readonly aside: number }> {
  const [row] = (await db.query(
    `select
       (select count(*)::int from decision where knot_id = $1 and kind = 'duplicate' and closed_at is null) as total,
       (select count(*)::int from outside_record where knot_id = $1 and verdict = 'aside') as aside`,
    [knot],
  )) as [{ total: number; aside: number }];
  return row;
}
