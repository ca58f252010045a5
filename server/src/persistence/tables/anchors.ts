import type { SqlConnection } from '../sql.js';
import {
  type Anchor,
  type AnchorId,
  anchorId,
  type MemberId,
  recordId,
  type RecordKey,
  recordKey,
} from '@anchor-knot/core';
import type { RunLease } from '../../orchestration/lease.js';
import type { AnchorIndex, RecordRef, StoredAnchor, TieHead } from '../../orchestration/stored.js';
import {
  agreedToColumn,
  anchorFromRows,
  type AnchorRow,
  byAnchor,
  leastAnchor,
  type TieRow,
  tieToRow,
} from '../rows.js';
import { saveEvidence } from './evidenceIndex.js';
import { hashKey } from './hashKey.js';
import { fromJsonColumn, jsonColumn } from './jsonColumn.js';
import { inParts } from './parts.js';
import { type ReferringBy, saveReferences } from './references.js';
import { noteThingChange } from './thingChanges.js';

export interface AnchorSave {
  readonly anchor: Anchor;
  readonly open: boolean;
  readonly title: string;
  /** Left out where newcomers find the anchor by the same as before. */
  readonly index?: AnchorIndex | undefined;
}

const longestTitle = 500;

export async function loadAnchors(
  data: SqlConnection,
  ids: readonly AnchorId[],
): Promise<ReadonlyMap<AnchorId, StoredAnchor>> {
  if (ids.length === 0) return new Map();
  const anchors = (await data.query(
    'select id, agreed, began_in, parked_creates, parted, revision from anchor where id = any($1::uuid[])',
    [ids],
  )) as AnchorRow[];
  if (anchors.length === 0) return new Map();
  const ties = (await data.query('select * from tie where anchor_id = any($1::uuid[]) order by member', [
    ids,
  ])) as TieRow[];
  const tiesOfAnchors = byAnchor(ties, ({ anchor_id }) => anchor_id);
  return new Map(
    anchors.map((row) => [
      anchorId(row.id),
      { anchor: anchorFromRows(row, tiesOfAnchors.get(row.id) ?? []), revision: row.revision },
    ]),
  );
}

/** Locks the anchors that exist, until the end of the transaction. */
export async function lockRevisions(db: SqlConnection, ids: readonly AnchorId[]): Promise<ReadonlyMap<string, number>> {
  // In order of id, so that two who lock several never wait for each other in a circle.
  const rows = (await db.query('select id, revision from anchor where id = any($1::uuid[]) order by id for update', [
    ids,
  ])) as {
    id: string;
    revision: number;
  }[];
  return new Map(rows.map(({ id, revision }) => [id, revision]));
}

export async function saveAnchors(
  db: SqlConnection,
  knot: string,
  saves: readonly AnchorSave[],
  at: number,
): Promise<ReadonlySet<AnchorId>> {
  const changed = new Set<AnchorId>();
  if (saves.length > 0) await noteThingChange(db, knot, new Date(at));
  for (const part of inParts(saves)) for (const anchor of await savePart(db, knot, part, at)) changed.add(anchor);
  return changed;
}

async function savePart(
  db: SqlConnection,
  knot: string,
  saves: readonly AnchorSave[],
  at: number,
): Promise<readonly AnchorId[]> {
  await db.query(
    `insert into anchor (id, knot_id, title, agreed, parked_creates, open, revision, changed_at, began_in, parted)
     select id, $1, title, agreed::jsonb, parked::jsonb, open, 1, $2, string_to_array(began, ' '), parted::jsonb
     from unnest($3::uuid[], $4::text[], ${fromJsonColumn('$5')}, ${fromJsonColumn('$6')}, $7::boolean[],
       $8::text[], $9::text[]) as r(id, title, agreed, parked, open, began, parted)
     on conflict (id) do update set title = excluded.title, agreed = excluded.agreed,
       parked_creates = excluded.parked_creates, open = excluded.open, revision = anchor.revision + 1,
         changed_at = excluded.changed_at, parted = excluded.parted`,
    [
      knot,
      new Date(at),
      saves.map(({ anchor }) => anchor.id),
      saves.map(({ title }) => title.slice(0, longestTitle)),
      jsonColumn(saves.map(({ anchor }) => agreedToColumn(anchor.agreed))),
      jsonColumn(saves.map(({ anchor }) => anchor.parkedCreates)),
      saves.map(({ open }) => open),
      // Ids of members have no blanks in them.
      saves.map(({ anchor }) => anchor.beganIn.join(' ')),
      saves.map(({ anchor }) => (anchor.parted ? JSON.stringify(anchor.parted) : null)),
    ],
  );
  await endReplacedTies(db, saves);
  const joined = await saveTies(
    db,
    knot,
    saves.flatMap(({ anchor }) => anchor.ties.map((tie) => tieToRow(anchor.id, tie))),
  );
  const found = await saveIndex(
    db,
    knot,
    saves.flatMap(({ anchor, index }) => (index ? [{ anchor: anchor.id, index }] : [])),
  );
  return [...joined, ...found];
}

/** A record was tied to another anchor in the same moment: what was to be stored is out of date. */
export class TieTaken extends Error {
  constructor() {
    super('a record was tied to another anchor meanwhile');
    this.name = 'TieTaken';
  }
}

/**
 * A tie never moves to another anchor by being stored.
 * @returns the anchors that a record came to
 * @throws {TieTaken}
 */
async function saveTies(db: SqlConnection, knot: string, ties: readonly TieRow[]): Promise<readonly AnchorId[]> {
  if (ties.length === 0) return [];
  const [{ stored, joined }] = (await db.query(
    `with stored as (
       insert into tie (knot_id, member, record_key, anchor_id, version, gone, fingerprint, ended, seen, ahead,
         left_alone, rejected, parked, outcomes, unacknowledged_since)
       select $1, member, record_key, anchor_id, version, gone, fingerprint, ended, seen::jsonb, ahead::jsonb,
         left_alone::jsonb, nullif(rejected, 'null')::jsonb, nullif(parked, 'null')::jsonb,
         nullif(outcomes, 'null')::jsonb, unacknowledged_since
       from unnest($2::text[], $3::text[], $4::uuid[], $5::text[], $6::boolean[], $7::text[], $8::text[],
         ${fromJsonColumn('$9')}, ${fromJsonColumn('$10')}, ${fromJsonColumn('$11')}, ${fromJsonColumn('$12')},
         ${fromJsonColumn('$13')}, ${fromJsonColumn('$14')}, $15::timestamptz[])
         as r(member, record_key, anchor_id, version, gone, fingerprint, ended, seen, ahead, left_alone, rejected,
           parked, outcomes, unacknowledged_since)
       on conflict (knot_id, member, record_key) do update set seen = excluded.seen, ahead = excluded.ahead,
         left_alone = excluded.left_alone, rejected = excluded.rejected, parked = excluded.parked,
         version = excluded.version, gone = excluded.gone, fingerprint = excluded.fingerprint, ended = excluded.ended,
         outcomes = excluded.outcomes, unacknowledged_since = excluded.unacknowledged_since
       where tie.anchor_id = excluded.anchor_id
       returning anchor_id, xmax = 0 as came)
     select count(*)::int as stored, coalesce(array_agg(distinct anchor_id) filter (where came), '{}') as joined
     from stored`,
    [
      knot,
      ties.map(({ member }) => member),
      ties.map(({ record_key }) => record_key),
      ties.map(({ anchor_id }) => anchor_id),
      ties.map(({ version }) => version),
      ties.map(({ gone }) => gone),
      ties.map(({ fingerprint }) => fingerprint),
      ties.map(({ ended }) => ended),
      jsonColumn(ties.map(({ seen }) => seen)),
      jsonColumn(ties.map(({ ahead }) => ahead)),
      jsonColumn(ties.map(({ left_alone }) => left_alone)),
      jsonColumn(ties.map(({ rejected }) => rejected)),
      jsonColumn(ties.map(({ parked }) => parked)),
      jsonColumn(ties.map(({ outcomes }) => outcomes)),
      ties.map(({ unacknowledged_since }) => unacknowledged_since),
    ],
  )) as [{ stored: number; joined: AnchorId[] }];
  if (stored < ties.length) throw new TieTaken();
  return joined;
}

/** What was deleted and made anew has another key: the tie of the record that is gone ends before the new one comes. */
async function endReplacedTies(db: SqlConnection, saves: readonly AnchorSave[]): Promise<void> {
  const replaced = saves.flatMap(({ anchor: { id, parted = {}, ties } }) =>
    ties.flatMap(({ member, key }) => {
      const before = parted[member];
      return before === undefined || before === key ? [] : [{ anchor: id, member, key: before }];
    }),
  );
  if (replaced.length === 0) return;
  await db.query(
    `delete from tie using unnest($1::uuid[], $2::text[], $3::text[]) as r (anchor, member, key)
     where tie.anchor_id = r.anchor and tie.member = r.member and tie.record_key = r.key and tie.gone`,
    [replaced.map(({ anchor }) => anchor), replaced.map(({ member }) => member), replaced.map(({ key }) => key)],
  );
}

/** The records among these that are tied. */
export async function tiedAmong(
  db: SqlConnection,
  knot: string,
  records: readonly Pick<RecordRef, 'member' | 'key'>[],
): Promise<ReadonlySet<string>> {
  if (records.length === 0) return new Set();
  // Each by the key of the table: of a table that grows fast the planner knows too little to choose that by itself.
  const rows = (await db.query(
    `select t.member, t.record_key from unnest($2::text[], $3::text[]) as r(member, record_key)
       cross join lateral (select tie.member, tie.record_key from tie where tie.knot_id = $1
         and tie.member = r.member and tie.record_key = r.record_key limit 1) as t`,
    [knot, records.map(({ member }) => member), records.map(({ key }) => key)],
  )) as { member: string; record_key: string }[];
  return new Set(rows.map(({ member, record_key }) => recordId({ member, key: recordKey(record_key) })));
}

/** Replaces by what newcomers find these anchors. @returns those that are found by something else than before */
export async function saveIndex(
  db: SqlConnection,
  knot: string,
  anchors: readonly { readonly anchor: AnchorId; readonly index: AnchorIndex }[],
): Promise<readonly AnchorId[]> {
  if (anchors.length === 0) return [];
  const keys = anchors.flatMap(({ anchor, index }) =>
    index.keys.map(([rule, key]) => ({ rule, hash: hashKey(key), anchor })),
  );
  const changed = (await db.query(
    `with wanted as (select distinct * from unnest($2::smallint[], $3::text[], $4::uuid[]) as r(rule, key_hash,
      anchor_id)),
          dropped as (delete from match_key m where m.anchor_id = any($5::uuid[]) and not exists (select 1
            from wanted w where w.rule = m.rule and w.key_hash = m.key_hash and w.anchor_id = m.anchor_id)
            returning anchor_id),
          made as (insert into match_key (knot_id, rule, key_hash, anchor_id)
            select $1, rule, key_hash, anchor_id from wanted on conflict do nothing returning anchor_id)
     select anchor_id from dropped union select anchor_id from made`,
    [
      knot,
      keys.map(({ rule }) => rule),
      keys.map(({ hash }) => hash),
      keys.map(({ anchor }) => anchor),
      anchors.map(({ anchor }) => anchor),
    ],
  )) as { anchor_id: AnchorId }[];
  const changedEvidence = await saveEvidence(
    db,
    knot,
    anchors.map(({ anchor, index }) => ({ anchor, evidence: index.evidence })),
  );
  await saveReferences(db, knot, anchors);
  return [...changed.map(({ anchor_id }) => anchor_id), ...changedEvidence];
}

export async function anchorIds(
  data: SqlConnection,
  knot: string,
  after: AnchorId | undefined,
  limit: number,
): Promise<readonly AnchorId[]> {
  const rows = (await data.query('select id from anchor where knot_id = $1 and id > $2 order by id limit $3', [
    knot,
    after ?? leastAnchor,
    limit,
  ])) as { id: string }[];
  return rows.map(({ id }) => anchorId(id));
}

export async function anchorsWithKeys(
  data: SqlConnection,
  knot: string,
  keys: readonly (readonly [rule: number, key: string])[],
) {
  if (keys.length === 0) return [];
  const hashed = keys.map(([rule, key]) => ({ rule, key, hash: hashKey(key) }));
  const wanted = new Map(hashed.map(({ rule, key, hash }) => [`${rule}/${hash}`, key]));
  const rows = (await data.query(
    'select m.rule, m.key_hash, m.anchor_id from match_key m join unnest($2::smallint[], $3::text[]) as ' +
      'k(rule, key_hash) on m.rule = k.rule and m.key_hash = k.key_hash where m.knot_id = $1',
    [knot, hashed.map(({ rule }) => rule), hashed.map(({ hash }) => hash)],
  )) as { rule: number; key_hash: string; anchor_id: string }[];
  return rows.map(({ rule, key_hash, anchor_id }) => ({
    rule,
    key: wanted.get(`${rule}/${key_hash}`) as string,
    anchor: anchorId(anchor_id),
  }));
}

export async function tieHeads(
  data: SqlConnection,
  knot: string,
  member: MemberId,
  keys: readonly RecordKey[],
): Promise<ReadonlyMap<RecordKey, TieHead>> {
  if (keys.length === 0) return new Map();
  // One JSON value for all of them: drivers take a multiple of its time for as many rows.
  const [{ heads }] = (await data.query(
    `select coalesce(json_agg(json_build_array(record_key, anchor_id, fingerprint, version, gone, ended)), '[]')
       as heads from tie where knot_id = $1 and member = $2 and record_key = any($3::text[])`,
    [knot, member, keys],
  )) as [{ heads: [string, string, string, string | null, boolean, TieRow['ended']][] }];
  return new Map(
    heads.map(([key, anchor, fingerprint, version, gone, ended]) => [
      recordKey(key),
      {
        anchor: anchorId(anchor),
        fingerprint,
        version: version ?? undefined,
        gone,
        archived: ended === 'archived',
      },
    ]),
  );
}

export async function markGone(
  db: SqlConnection,
  lease: RunLease,
  member: MemberId,
  keys: readonly RecordKey[],
  at: number,
): Promise<void> {
  await db.query(
    `with gone as (
       update tie set gone = true where knot_id = $1 and member = $2 and record_key = any($3::text[]) and not gone
       returning anchor_id, record_key),
     opened as (
       update anchor set open = true, revision = revision + 1, changed_at = $5 from gone
       where anchor.id = gone.anchor_id)
     insert into journal (knot_id, run_id, anchor_id, member, record_key, kind, at)
     select $1, $4, anchor_id, $2, record_key, 'gone', $5 from gone`,
    [lease.knot, member, keys, lease.run, new Date(at)],
  );
  await noteThingChange(db, lease.knot, new Date(at));
}

/**
 * What refers to things that have changed is merged in its knot's next run: they may be known by other records now, or
 * be there no more. A plan that was made before is out of date.
 * @param by only what refers to them so; all, when left out
 * @returns how many there are
 */
export async function openReferring(db: SqlConnection, things: readonly AnchorId[], by?: ReferringBy): Promise<number> {
  const rows = (await db.query(
    `with opened as (update anchor set open = true, revision = revision + 1 where id in (
       select r.anchor_id from anchor_reference r where r.to_anchor = any($1::uuid[])
         and ($2::text is null or r.knot_id = $2 and r.field = any($3) and exists (select from tie t
           where t.anchor_id = r.anchor_id and not t.gone and t.member = any($4)))) returning 1)
     select 1 from opened`,
    [things, by?.knot ?? null, by?.fields ?? [], by?.members ?? []],
  )) as unknown[];
  return rows.length;
}

export async function deleteTies(db: SqlConnection, knot: string, ties: readonly RecordRef[]): Promise<void> {
  await db.query(
    `delete from tie t using unnest($2::text[], $3::text[]) as r(member, record_key)
     where t.knot_id = $1 and t.member = r.member and t.record_key = r.record_key`,
    [knot, ties.map(({ member }) => member), ties.map(({ key }) => key)],
  );
}

/** An anchor that became part of another one: what it was leads there. */
export async function deleteAnchor(db: SqlConnection, id: AnchorId, to: AnchorId): Promise<void> {
  await db.query('update anchor_redirect set to_id = $2 where to_id = $1', [id, to]);
  await db.query('insert into anchor_redirect (from_id, to_id) values ($1, $2)', [id, to]);
  await db.query('delete from anchor where id = $1', [id]);
}

/** Takes fields out of what the ties of a member have seen; their anchors are others from then on. */
export async function forgetSeen(
  db: SqlConnection,
  knot: string,
  member: MemberId,
  fields: readonly string[],
): Promise<void> {
  await db.query(
    `with forgotten as (
       update tie set seen = seen - $3::text[], ahead = ahead - $3::text[] where knot_id = $1 and member = $2
       returning anchor_id)
     update anchor set revision = revision + 1 from forgotten where anchor.id = forgotten.anchor_id`,
    [knot, member, fields],
  );
}
