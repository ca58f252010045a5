import {
  type AnchorId,
  anchorId,
  type MemberId,
  recordId,
  type RecordKey,
  recordKey,
  type Tie,
} from '@anchor-knot/core';
import type { RecordRef, TieRef } from '../../orchestration/stored.js';
import { byAnchor, tieFromRow, type TieRow } from '../rows.js';
import type { SqlConnection } from '../sql.js';

/** Which records belong to which anchors, as it is stored. */

/** @param beginnings each ends with a slash, after which no key has a smaller one than the next character */
export async function tiedUnder(
  data: SqlConnection,
  knot: string,
  member: MemberId,
  beginnings: readonly string[],
): Promise<readonly RecordKey[]> {
  if (beginnings.length === 0) return [];
  const rows = (await data.query(
    `select t.record_key from unnest($3::text[]) as asked (beginning) join tie t
       on t.knot_id = $1 and t.member = $2 and not t.gone and t.record_key >= asked.beginning
         and t.record_key < left(asked.beginning, -1) || chr(ascii(right(asked.beginning, 1)) + 1)`,
    [knot, member, beginnings],
  )) as { record_key: string }[];
  return rows.map(({ record_key }) => recordKey(record_key));
}

export async function tiesOf(
  data: SqlConnection,
  knot: string,
  anchors: readonly AnchorId[],
): Promise<readonly TieRef[]> {
  const rows = (await data.query(
    'select anchor_id, member, record_key, gone from tie where knot_id = $1 and anchor_id = any($2::uuid[])',
    [knot, anchors],
  )) as { anchor_id: string; member: string; record_key: string; gone: boolean }[];
  return rows.map(({ anchor_id, member, record_key, gone }) => ({
    anchor: anchorId(anchor_id),
    member,
    key: recordKey(record_key),
    gone,
  }));
}

export async function rejectedTies(data: SqlConnection, knot: string): Promise<readonly RecordRef[]> {
  const rows = (await data.query(
    'select member, record_key from tie where knot_id = $1 and rejected is not null and not gone',
    [knot],
  )) as Pick<TieRow, 'member' | 'record_key'>[];
  return rows.map(({ member, record_key }) => ({ member, key: recordKey(record_key) }));
}

/** The knot that an anchor belongs to. */
export async function knotOfAnchor(db: SqlConnection, id: string): Promise<string | undefined> {
  const [row] = (await db.query('select knot_id from anchor where id = $1', [id])) as { knot_id: string }[];
  return row?.knot_id;
}

export interface TiedRecord {
  readonly anchor: AnchorId;
  /** What the anchor is called. */
  readonly title: string;
  readonly tie: Tie;
}

/** The ties of some records, by the records' names. */
export async function tiesOfRecords(
  db: SqlConnection,
  knot: string,
  records: readonly RecordRef[],
): Promise<ReadonlyMap<string, TiedRecord>> {
  const rows = (await db.query(
    `select t.*, a.title from tie t join anchor a on a.id = t.anchor_id
     where t.knot_id = $1 and (t.member, t.record_key) in (select * from unnest($2::text[], $3::text[]))`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
  )) as (TieRow & { title: string })[];
  return new Map(
    rows.map((row) => {
      const tie = tieFromRow(row);
      return [recordId(tie), { anchor: anchorId(row.anchor_id), title: row.title, tie }];
    }),
  );
}

/** The records of some anchors that are there, in order of their members. */
export async function recordsOf(
  db: SqlConnection,
  knot: string,
  anchors: readonly AnchorId[],
): Promise<ReadonlyMap<AnchorId, readonly RecordRef[]>> {
  const ties = (await tiesOf(db, knot, anchors)).filter(({ gone }) => !gone);
  const inOrder = ties.toSorted((a, b) => (a.member < b.member ? -1 : 1));
  return byAnchor(inOrder, ({ anchor }) => anchor);
}

/** Those of some things that have no record left in any member. */
export async function goneAmong(db: SqlConnection, things: readonly AnchorId[]): Promise<readonly AnchorId[]> {
  if (things.length === 0) return [];
  const rows = (await db.query(
    `select id from anchor a where id = any($1::uuid[])
       and not exists (select from tie where tie.anchor_id = a.id and not tie.gone)`,
    [things],
  )) as { id: string }[];
  return rows.map(({ id }) => anchorId(id));
}

/** The things that a run has found, or made, to be there no more: none of their records is left. */
export async function endedIn(db: SqlConnection, run: string): Promise<readonly AnchorId[]> {
  const rows = (await db.query(
    `select distinct j.anchor_id from journal j where j.run_id = $1 and j.kind in ('gone', 'archive', 'delete')
       and not exists (select from tie where tie.anchor_id = j.anchor_id and not tie.gone)`,
    [run],
  )) as { anchor_id: string }[];
  return rows.map(({ anchor_id }) => anchorId(anchor_id));
}
