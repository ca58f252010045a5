import { type AnchorId, anchorId, type ReferenceBy, type Substitute } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';

/** Of what something is asked: values that records refer by, and things. */
export interface AboutSubstitutes {
  readonly values: readonly string[];
  readonly things: readonly AnchorId[];
}

/** The substitutes of some values and things of a knot; merged things by what they are now. */
export async function substitutesOf(
  db: SqlConnection,
  knot: string,
  { values, things }: AboutSubstitutes,
): Promise<readonly Substitute[]> {
  const rows = (await db.query(
    `select s.way, s.value, coalesce(r.to_id, s.anchor_id) as anchor_id, coalesce(m.to_id, s.stands) as stands
     from substitute s left join anchor_redirect r on r.from_id = s.anchor_id
       left join anchor_redirect m on m.from_id = s.stands
     where s.knot_id = $1 and (s.value = any($2) or coalesce(r.to_id, s.anchor_id) = any($3::uuid[]))
     order by s.id`,
    [knot, values, things],
  )) as { way: ReferenceBy; value: string | null; anchor_id: string | null; stands: string | null }[];
  return rows.map(({ way, value, anchor_id, stands }) => ({
    knot,
    by: way,
    of: value === null ? { anchor: anchorId(anchor_id as string) } : { value },
    stands: stands === null ? null : anchorId(stands),
  }));
}

/** Says what stands for a value or a thing; what was said of it before no longer holds. @returns its id */
export async function saySubstitute(
  db: SqlConnection,
  { knot, by, of, stands }: Substitute,
  person: string,
  now: Date,
): Promise<string> {
  const [target, condition] = 'value' in of ? ['md5(value)', 'value'] : ['anchor_id', 'anchor_id'];
  const [row] = (await db.query(
    `insert into substitute (knot_id, way, value, anchor_id, stands, said_by, said_at)
       values ($1, $2, $3, $4, $5, $6, $7)
     on conflict (knot_id, way, ${target}) where ${condition} is not null do update
       set stands = excluded.stands, said_by = excluded.said_by, said_at = excluded.said_at
     returning id`,
    [knot, JSON.stringify(by), 'value' in of ? of.value : null, 'anchor' in of ? of.anchor : null, stands, person, now],
  )) as { id: string }[];
  if (!row) throw new Error('a substitute was not stored');
  return row.id;
}

/** @returns what was said; `undefined` where it was taken back already */
export async function takeBackSubstitute(
  db: SqlConnection,
  id: string,
): Promise<{ readonly knot: string } | undefined> {
  const rows = (await db.query(
    `with taken as (delete from substitute where id = $1 returning knot_id as knot) select knot from taken`,
    [id],
  )) as { knot: string }[];
  return rows[0];
}

export interface SubstituteRow {
  readonly id: string;
  readonly knot_id: string;
  readonly way: ReferenceBy;
  readonly value: string | null;
  readonly anchor_id: string | null;
  readonly stands: string | null;
  readonly said_by: string;
  readonly said_at: Date;
  /** What stands, and what it stands for, are called; null where it is gone. */
  readonly of_title: string | null;
  readonly stands_title: string | null;
  readonly total: number;
}

/**
 * What was said, of all knots, what was said last first.
 * @param search a part of a value, or of what a thing is called
 */
export async function listSubstitutes(
  db: SqlConnection,
  { search, skip, limit }: { readonly search: string; readonly skip: number; readonly limit: number },
): Promise<readonly SubstituteRow[]> {
  return (await db.query(
    `select s.id, s.knot_id, s.way, s.value, coalesce(r.to_id, s.anchor_id) as anchor_id,
       coalesce(m.to_id, s.stands) as stands, s.said_by, s.said_at, a.title as of_title, b.title as stands_title,
       (count(*) over ())::int as total
     from substitute s left join anchor_redirect r on r.from_id = s.anchor_id
       left join anchor_redirect m on m.from_id = s.stands
       left join anchor a on a.id = coalesce(r.to_id, s.anchor_id)
       left join anchor b on b.id = coalesce(m.to_id, s.stands)
     where $1 = '' or strpos(lower(concat_ws(' ', s.value, a.title, b.title)), lower($1)) > 0
     order by s.said_at desc, s.id desc offset $2 limit $3`,
    [search, skip, limit],
  )) as readonly SubstituteRow[];
}
