import { type AnchorId, anchorId, type FieldId, type KeyRule, type MemberId } from '@anchor-knot/core';
import type { AnchorIndex, WaitingReference } from '../../orchestration/stored.js';
import { leastAnchor } from '../rows.js';
import type { SqlConnection } from '../sql.js';

/** The key rules of a knot, as they are in force; none where there is no such knot. */
export async function keyRulesOf(db: SqlConnection, knot: string): Promise<readonly KeyRule[]> {
  const [row] = (await db.query(
    `select v.definition -> 'keyRules' as rules from knot k join knot_version v on v.knot_id = k.id
       and v.version = k.version_in_force where k.id = $1`,
    [knot],
  )) as { rules: readonly KeyRule[] }[];
  return row?.rules ?? [];
}

/** What things agree on in a field that holds a text; those without one are left out. */
export async function agreedTexts(
  db: SqlConnection,
  knot: string,
  field: FieldId,
  anchors: readonly AnchorId[],
): Promise<ReadonlyMap<AnchorId, string>> {
  const rows = (await db.query(
    `select a.id, giving -> 'values' ->> $2 as value from anchor a, jsonb_array_elements(a.agreed) giving
     where a.knot_id = $1 and a.id = any($3::uuid[]) and jsonb_typeof(giving -> 'values' -> $2) = 'string'`,
    [knot, field, anchors],
  )) as { id: string; value: string }[];
  return new Map(rows.map(({ id, value }) => [anchorId(id), value]));
}

/** Of anchors that became part of others, which they are now. */
export async function redirects(
  db: SqlConnection,
  anchors: readonly AnchorId[],
): Promise<ReadonlyMap<AnchorId, AnchorId>> {
  if (anchors.length === 0) return new Map();
  const rows = (await db.query('select from_id, to_id from anchor_redirect where from_id = any($1::uuid[])', [
    anchors,
  ])) as { from_id: string; to_id: string }[];
  return new Map(rows.map(({ from_id, to_id }) => [anchorId(from_id), anchorId(to_id)]));
}

/** Replaces what these anchors refer to; those of knots that refer to nothing cost nothing. */
export async function saveReferences(
  db: SqlConnection,
  knot: string,
  anchors: readonly { readonly anchor: AnchorId; readonly index: Pick<AnchorIndex, 'references'> }[],
): Promise<void> {
  const referring = anchors.filter(({ index }) => index.references !== undefined);
  if (referring.length === 0) return;
  const rows = referring.flatMap(({ anchor, index }) =>
    (index.references ?? []).map((reference) => ({ anchor, field: reference.field, to: reference.anchor })),
  );
  await db.query(
    `with wanted as (select * from unnest($2::uuid[], $3::text[], $4::uuid[]) as r(anchor_id, field, to_anchor)),
          dropped as (delete from anchor_reference a where a.anchor_id = any($5::uuid[]) and not exists (select 1
            from wanted w where w.anchor_id = a.anchor_id and w.field = a.field))
     insert into anchor_reference (knot_id, anchor_id, field, to_anchor)
       select $1, anchor_id, field, to_anchor from wanted
       on conflict (anchor_id, field) do update set to_anchor = excluded.to_anchor
         where anchor_reference.to_anchor <> excluded.to_anchor`,
    [
      knot,
      rows.map(({ anchor }) => anchor),
      rows.map(({ field }) => field),
      rows.map(({ to }) => to),
      referring.map(({ anchor }) => anchor),
    ],
  );
}

/** What has no record any more refers to nothing that would be missed. */
const isThere = 'exists (select from tie t where t.anchor_id = r.anchor_id and not t.gone)';

/** How many things that are there refer to some anchors; those that nothing refers to are left out. */
export async function referringCounts(
  db: SqlConnection,
  anchors: readonly AnchorId[],
): Promise<ReadonlyMap<AnchorId, number>> {
  const rows = (await db.query(
    `select r.to_anchor, count(distinct r.anchor_id)::int as count from anchor_reference r
     where r.to_anchor = any($1::uuid[]) and ${isThere} group by 1`,
    [anchors],
  )) as { to_anchor: string; count: number }[];
  return new Map(rows.map(({ to_anchor, count }) => [anchorId(to_anchor), count]));
}

/** Something of a knot that refers to a thing. */
export interface Referring {
  readonly knot: string;
  readonly anchor: AnchorId;
  readonly title: string;
}

/**
 * What refers to a thing, by knot and name.
 * @returns the first ones, and how many there are of each knot
 */
export async function referringTo(
  db: SqlConnection,
  thing: AnchorId,
  limit: number,
): Promise<{ readonly first: readonly Referring[]; readonly counts: ReadonlyMap<string, number> }> {
  const counts = (await db.query(
    `select knot_id, count(distinct anchor_id)::int as count from anchor_reference r
     where to_anchor = $1 and ${isThere} group by 1 order by 1`,
    [thing],
  )) as { knot_id: string; count: number }[];
  if (counts.length === 0) return { first: [], counts: new Map() };
  const rows = (await db.query(
    `select distinct r.knot_id, r.anchor_id, a.title from anchor_reference r join anchor a on a.id = r.anchor_id
     where r.to_anchor = $1 and ${isThere} order by r.knot_id, a.title, r.anchor_id limit $2`,
    [thing, limit],
  )) as { knot_id: string; anchor_id: string; title: string }[];
  return {
    first: rows.map(({ knot_id, anchor_id, title }) => ({
      knot: knot_id,
      anchor: anchorId(anchor_id),
      title,
    })),
    counts: new Map(counts.map(({ knot_id, count }) => [knot_id, count])),
  };
}

/** Those of a knot that refer to a thing, by name: their ids, so many after the first ones. */
export async function referringOf(
  db: SqlConnection,
  thing: AnchorId,
  knot: string,
  { skip, limit }: { readonly skip: number; readonly limit: number },
): Promise<readonly AnchorId[]> {
  const rows = (await db.query(
    `select distinct r.anchor_id, a.title from anchor_reference r join anchor a on a.id = r.anchor_id
     where r.to_anchor = $1 and r.knot_id = $2 and ${isThere} order by a.title, r.anchor_id offset $3 limit $4`,
    [thing, knot, skip, limit],
  )) as { anchor_id: string }[];
  return rows.map(({ anchor_id }) => anchorId(anchor_id));
}

/** What some things are called, and to which knot they belong; merged ones by what they are now. */
export async function namesOfThings(
  db: SqlConnection,
  things: readonly string[],
): Promise<ReadonlyMap<string, { readonly anchor: string; readonly knot: string; readonly title: string }>> {
  if (things.length === 0) return new Map();
  const rows = (await db.query(
    `select asked.id, a.id as anchor_id, a.knot_id, a.title from unnest($1::uuid[]) as asked(id)
       left join anchor_redirect r on r.from_id = asked.id join anchor a on a.id = coalesce(r.to_id, asked.id)`,
    [[...new Set(things)]],
  )) as { id: string; anchor_id: string; knot_id: string; title: string }[];
  return new Map(rows.map(({ id, anchor_id, knot_id, title }) => [id, { anchor: anchor_id, knot: knot_id, title }]));
}

/**
 * What stands above some things, and above that, up to the top.
 * @returns each thing, and the one above it
 */
export async function thingsAbove(
  db: SqlConnection,
  field: FieldId,
  things: readonly AnchorId[],
): Promise<readonly (readonly [AnchorId, AnchorId])[]> {
  if (things.length === 0) return [];
  const rows = (await db.query(
    `with recursive above as (
       select anchor_id, to_anchor from anchor_reference where anchor_id = any($2::uuid[]) and field = $1
       union
       select r.anchor_id, r.to_anchor from above join anchor_reference r on r.anchor_id = above.to_anchor
         and r.field = $1)
     select anchor_id, to_anchor from above`,
    [field, things],
  )) as { anchor_id: string; to_anchor: string }[];
  return rows.map(({ anchor_id, to_anchor }) => [anchorId(anchor_id), anchorId(to_anchor)]);
}

/** What waits for things of a knot, in any knot. */
export async function waitingFor(db: SqlConnection, knot: string, limit: number): Promise<readonly WaitingReference[]> {
  return (await db.query(
    `select distinct knot_id as knot, detail -> 'by' as by, detail ->> 'value' as value, detail ->> 'thing' as thing
     from decision where kind = 'waiting' and closed_at is null and detail ->> 'knot' = $1 limit $2`,
    [knot, limit],
  )) as WaitingReference[];
}

/** Of what refers to something: in a knot, by some fields, and with a record in one of some members. */
export interface ReferringBy {
  readonly knot: string;
  readonly fields: readonly FieldId[];
  readonly members: readonly MemberId[];
}

/** Of knots in force, those whose things are archived with things of a knot. */
export async function archivedWithThose(db: SqlConnection, knot: string): Promise<readonly ReferringBy[]> {
  return (await db.query(
    `select k.id as knot,
       array(select f ->> 'id' from jsonb_array_elements(v.definition -> 'fields') f
         where f ->> 'refersTo' = $1 and (f ->> 'archivedWith')::boolean) as fields,
       array(select m ->> 'id' from jsonb_array_elements(v.definition -> 'members') m
         where (m -> 'may' ->> 'archive')::boolean) as members
     from knot k join knot_version v on v.knot_id = k.id and v.version = k.version_in_force
     where jsonb_path_exists(v.definition, '$.fields[*] ? (@.refersTo == $knot && @.archivedWith == true)',
       jsonb_build_object('knot', $1::text))
     order by k.id`,
    [knot],
  )) as readonly ReferringBy[];
}

/** The things of a knot that wait for others of the same knot, in their order, after one. */
export async function waitingWithin(
  db: SqlConnection,
  knot: string,
  after: AnchorId | undefined,
  limit: number,
): Promise<readonly (WaitingReference & { readonly anchor: AnchorId })[]> {
  return (await db.query(
    `select anchor_id as anchor, knot_id as knot, detail -> 'by' as by, detail ->> 'value' as value,
       detail ->> 'thing' as thing
     from decision where kind = 'waiting' and closed_at is null and knot_id = $1 and detail ->> 'knot' = $1
       and anchor_id > $2 order by anchor_id limit $3`,
    [knot, after ?? leastAnchor, limit],
  )) as readonly (WaitingReference & { readonly anchor: AnchorId })[];
}

/** In which list of their knots some records stand that belong to no anchor, by knot, member and key. */
export async function listsOfRecords(
  db: SqlConnection,
  records: readonly { readonly knot: string; readonly member: string; readonly key: string }[],
): Promise<ReadonlyMap<string, 'waiting' | 'rejected' | 'untied' | 'aside'>> {
  if (records.length === 0) return new Map();
  const rows = (await db.query(
    `select knot_id, member, record_key, coalesce(verdict, reason) as list from outside_record
     where (knot_id, member, record_key) in (select * from unnest($1::text[], $2::text[], $3::text[]))`,
    [records.map(({ knot }) => knot), records.map(({ member }) => member), records.map(({ key }) => key)],
  )) as { knot_id: string; member: string; record_key: string; list: 'waiting' | 'rejected' | 'untied' | 'aside' }[];
  return new Map(rows.map((row) => [JSON.stringify([row.knot_id, row.member, row.record_key]), row.list]));
}
