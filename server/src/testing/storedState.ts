import { type Anchor, type AnchorId, anchorId, recordId, recordKey } from '@anchor-knot/core';
import type { HeldField, Place, PlayedOutcome } from '@anchor-knot/core/testing';
import type { SqlConnection } from '../persistence/sql.js';
import { anchorIds, loadAnchors } from '../persistence/tables/anchors.js';

/** What a database holds of a knot, as those who play histories look at it; they are small. */
export interface StoredState {
  readonly anchors: ReadonlyMap<AnchorId, Anchor>;
  readonly held: readonly StoredHeld[];
  /** In which lists each record is, by its name. */
  readonly places: ReadonlyMap<string, readonly Place[]>;
}

export type StoredHeld = HeldField & { readonly decision: string; readonly fingerprint: string };

const mostAnchors = 1000;

export async function storedState(db: SqlConnection, knot: string): Promise<StoredState> {
  const stored = await loadAnchors(db, await anchorIds(db, knot, undefined, mostAnchors));
  return {
    anchors: new Map([...stored].map(([id, { anchor }]) => [id, anchor])),
    held: await storedHeld(db, knot),
    places: await storedPlaces(db, knot),
  };
}

async function storedHeld(db: SqlConnection, knot: string): Promise<readonly StoredHeld[]> {
  const rows = (await db.query(
    `select id, anchor_id, field, says, fingerprint, detail from decision
     where knot_id = $1 and kind = 'held' and closed_at is null order by id`,
    [knot],
  )) as {
    id: string;
    anchor_id: string;
    field: string;
    says: string;
    fingerprint: string;
    detail: { base: HeldField['base'] | null; candidates: HeldField['candidates'] };
  }[];
  return rows.map(({ id, anchor_id, field, says, fingerprint, detail: { base, candidates } }) => ({
    decision: id,
    anchor: anchorId(anchor_id),
    field,
    reason: says,
    fingerprint,
    candidates,
    ...(base ? { base } : {}),
  })) as readonly StoredHeld[];
}

async function storedPlaces(db: SqlConnection, knot: string): Promise<ReadonlyMap<string, readonly Place[]>> {
  const rows = (await db.query(
    `select member, record_key, 'tied' as place from tie where knot_id = $1 and not gone
     union all select member, record_key, case when verdict = 'aside' then 'set aside' else reason end
       from outside_record where knot_id = $1
     union all select member, record_key, 'outside the filter' from filtered_record where knot_id = $1`,
    [knot],
  )) as { member: string; record_key: string; place: Place }[];
  const places = new Map<string, Place[]>();
  for (const { member, record_key, place } of rows) {
    const name = recordId({ member, key: recordKey(record_key) });
    places.set(name, [...(places.get(name) ?? []), place]);
  }
  return places;
}

/** Edits that lost, as the journal tells them, after one of its entries. */
export async function toldAsLost(
  db: SqlConnection,
  after: string,
): Promise<{ readonly lost: PlayedOutcome['lost']; readonly last: string }> {
  const rows = (await db.query(
    `select id, kind, anchor_id, member, field, meaning from journal where id > $1 order by id`,
    [after],
  )) as { id: string; kind: string; anchor_id: string; member: string | null; field: string; meaning: never }[];
  const lost = rows.filter(({ kind }) => kind === 'lost');
  return {
    lost: lost.map(({ anchor_id, member, field, meaning }) => ({
      anchor: anchorId(anchor_id),
      member: member ?? undefined,
      field,
      value: meaning,
    })),
    last: rows.at(-1)?.id ?? after,
  };
}
