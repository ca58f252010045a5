import type { Anchor } from '@anchor-knot/core';
import { anchorFromRows, type AnchorRow, leastAnchor, type TieRow } from '../rows.js';
import type { SqlConnection } from '../sql.js';
import { namesAnchor } from './decisionLists.js';

/** Anchors as people look through them. */

export interface ListedAnchorRow {
  readonly id: string;
  readonly title: string;
  readonly open: boolean;
  readonly changed_at: Date;
  readonly decisions: number;
  readonly ties: { readonly member: string; readonly key: string; readonly gone: boolean }[];
}

export interface AnchorSearch {
  readonly knot: string;
  readonly state: 'all' | 'open';
  /** Part of a title or of a record's key. */
  readonly text: string | undefined;
}

/** Indexed are parts of a text of three letters. */
const shortestIndexed = 3;
/** More are not counted: it would take longer than anybody wants to know it. */
export const mostCounted = 10_000;

const wantedText = ({ text }: AnchorSearch): string => text?.trim().toLowerCase() ?? '';

/** The anchors that the indexes find: by a part of their title or of a record's key. */
const foundIds = (union: 'union' | 'union all'): string =>
  `select f.id from anchor f where f.knot_id = $1 and lower(f.title) like $3
   ${union} select t.anchor_id from tie t where t.knot_id = $1 and lower(t.record_key) like $3`;

/**
 * Whether a text is so common that a walk through the anchors in their order soon fills a page, while looking all of
 * them up and putting them in order would take long. Texts too short for the indexes are taken to be.
 */
async function isCommon(db: SqlConnection, search: AnchorSearch): Promise<boolean> {
  if (wantedText(search).length < shortestIndexed) return true;
  const [{ found }] = (await db.query(
    `select count(*)::int as found from (${foundIds('union all')} limit ${mostCounted + 1}) as some_of_them
     where $2::text is not null`,
    parametersOf(search),
  )) as [{ found: number }];
  return found > mostCounted;
}

const whereOf = (isCommonText: boolean): string =>
  `a.knot_id = $1 and ($2 = 'all' or a.open) and ${
    isCommonText
      ? `($3::text is null or lower(a.title) like $3
          or exists (select from tie t where t.anchor_id = a.id and lower(t.record_key) like $3))`
      : `a.id in (${foundIds('union')})`
  }`;

const likePattern = (text: string): string => `%${text.replaceAll(/[\\%_]/g, '\\$&')}%`;

function parametersOf(search: AnchorSearch): unknown[] {
  const wanted = wantedText(search);
  return [search.knot, search.state, wanted === '' ? null : likePattern(wanted)];
}

/** A page of anchors in order of title, after one. */
export async function anchorsByTitle(
  db: SqlConnection,
  search: AnchorSearch,
  after: { readonly title: string | undefined; readonly id: string | undefined },
  limit: number,
): Promise<readonly ListedAnchorRow[]> {
  const where = whereOf(await isCommon(db, search));
  return (await db.query(
    `select a.id, a.title, a.open, a.changed_at,
       (select count(*)::int from decision d where d.anchor_id = a.id and d.closed_at is null)
         + (select count(*)::int from decision d where ${namesAnchor('a.id')}) as decisions,
       (select coalesce(jsonb_agg(jsonb_build_object('member', t.member, 'key', t.record_key, 'gone', t.gone)
         order by t.member), '[]') from tie t where t.anchor_id = a.id) as ties
     from anchor a where ${where} and ($4::text is null or (lower(a.title), a.id) > ($4, $5::uuid))
     order by lower(a.title), a.id limit $6`,
    [...parametersOf(search), after.title?.toLowerCase() ?? null, after.id ?? leastAnchor, limit],
  )) as ListedAnchorRow[];
}

/** How many there are, up to one more than are counted. */
export async function countAnchors(db: SqlConnection, search: AnchorSearch): Promise<number> {
  const where = whereOf(await isCommon(db, search));
  const [{ total }] = (await db.query(
    `select count(*)::int as total from (select from anchor a where ${where}
       limit ${mostCounted + 1}) as counted`,
    parametersOf(search),
  )) as [{ total: number }];
  return total;
}

export interface FoundAnchorRow {
  readonly id: string;
  readonly knot_id: string;
  readonly title: string;
  readonly keys: readonly string[];
}

/** Some anchors of any knot by a part of their title or of a record's key; titles that begin with it come first. */
export async function findAnchors(db: SqlConnection, text: string, limit: number): Promise<readonly FoundAnchorRow[]> {
  const wanted = text.trim().toLowerCase();
  return (await db.query(
    `select a.id, a.knot_id, a.title,
       (select coalesce(array_agg(t.record_key order by t.member), '{}') from tie t where t.anchor_id = a.id) as keys
     from anchor a where a.id in (select f.id from anchor f where lower(f.title) like $1
       union select t.anchor_id from tie t where lower(t.record_key) like $1)
     order by not starts_with(lower(a.title), $2), lower(a.title), a.id limit $3`,
    [likePattern(wanted), wanted, limit],
  )) as FoundAnchorRow[];
}

export interface AnchorPage {
  readonly knot: string;
  readonly title: string;
  readonly open: boolean;
  readonly anchor: Anchor;
}

export async function anchorPage(db: SqlConnection, id: string): Promise<AnchorPage | undefined> {
  return (await anchorPages(db, [id]))[0];
}

/** In the order in which they are asked for; those that are not there are left out. */
export async function anchorPages(db: SqlConnection, ids: readonly string[]): Promise<readonly AnchorPage[]> {
  const rows = (await db.query(
    `select id, knot_id, title, open, agreed, began_in, parked_creates, parted, revision from anchor
     where id = any($1::uuid[]) order by array_position($1::uuid[], id)`,
    [ids],
  )) as (AnchorRow & { knot_id: string; title: string; open: boolean })[];
  const ties = (await db.query('select * from tie where anchor_id = any($1::uuid[]) order by member', [
    ids,
  ])) as TieRow[];
  const tiesOf = new Map<string, TieRow[]>(ids.map((id) => [id, []]));
  for (const tie of ties) tiesOf.get(tie.anchor_id)?.push(tie);
  return rows.map((row) => ({
    knot: row.knot_id,
    title: row.title,
    open: row.open,
    anchor: anchorFromRows(row, tiesOf.get(row.id) ?? []),
  }));
}

/** The anchor that another one was made part of. */
export async function anchorMergedInto(db: SqlConnection, id: string): Promise<string | undefined> {
  const [moved] = (await db.query('select to_id from anchor_redirect where from_id = $1', [id])) as {
    to_id: string;
  }[];
  return moved?.to_id;
}
