import { type Anchor, type AnchorId, type FieldId, type MemberId, recordId, type RecordKey } from '@anchor-knot/core';
import type { RunLease } from '../orchestration/lease.js';
import type { StoredAnchor } from '../orchestration/stored.js';
import type { SqlConnection } from '../persistence/sql.js';
import {
  type AnchorSave,
  deleteAnchor,
  deleteTies,
  forgetSeen,
  loadAnchors,
  lockRevisions,
  markGone,
  openReferring,
  saveAnchors,
  tiedAmong,
} from '../persistence/tables/anchors.js';
import { countAct, wakeInDoubt, wakeLikeAnchors } from '../persistence/tables/restingRecords.js';

/**
 * The one door: whatever changes an anchor or a tie goes through here (a run's merge, the outcome of a write, a
 * decision, tying by hand, a version), with the anchor's revision, which every change raises. Who comes late is given
 * the newer anchor, and applies what it has to say to that. Nobody else writes these tables.
 */

/** What is to be stored of an anchor that was planned from a revision. */
export interface PlannedChange {
  /** The revision that it was worked out from; 0 for a new anchor. */
  readonly revision: number;
  readonly save: AnchorSave;
  /** Records that come to it: none of them may have been tied meanwhile. */
  readonly came: readonly RecordOfTie[];
}

/**
 * Stores anchors whose revision is still the one they were worked out from.
 * @returns those that were; the others have changed meanwhile and are as somebody else left them
 */
export async function storeIfUnchanged(
  db: SqlConnection,
  knot: string,
  changes: readonly PlannedChange[],
  at: number,
): Promise<ReadonlySet<AnchorId>> {
  const revisions = await lockRevisions(
    db,
    changes.map(({ save }) => save.anchor.id),
  );
  const taken = await tiedAmong(
    db,
    knot,
    changes.flatMap(({ came }) => came),
  );
  const current = changes.filter(
    ({ revision, save, came }) =>
      (revisions.get(save.anchor.id) ?? 0) === revision && !came.some((record) => taken.has(recordId(record))),
  );
  await save(
    db,
    knot,
    current.map(({ save }) => save),
    at,
  );
  return new Set(current.map(({ save }) => save.anchor.id));
}

/**
 * Changes anchors as they are now, whatever has happened to them. They are locked until the end of the transaction.
 * @param change what becomes of an anchor; nothing when it gives `undefined`. Ties that it leaves out end.
 * @returns the anchors as they were found
 */
export async function changeAnchors(
  db: SqlConnection,
  knot: string,
  ids: readonly AnchorId[],
  change: (stored: StoredAnchor) => AnchorSave | undefined,
  at: number,
): Promise<ReadonlyMap<AnchorId, StoredAnchor>> {
  await countAct(db, knot);
  await lockRevisions(db, ids);
  const stored = await loadAnchors(db, ids);
  const saves = [...stored.values()].flatMap((anchor) => change(anchor) ?? []);
  await saveWithoutTies(
    db,
    knot,
    saves.map((save) => ({ save, ended: tiesEnded(stored.get(save.anchor.id)?.anchor, save.anchor) })),
    at,
  );
  return stored;
}

/** Stores an anchor that begins or that was loaded and locked before, with ties that come from others. */
export async function storeAnchor(
  db: SqlConnection,
  knot: string,
  before: Anchor | undefined,
  save: AnchorSave,
  at: number,
): Promise<void> {
  await countAct(db, knot);
  await saveWithoutTies(db, knot, [{ save, ended: tiesEnded(before, save.anchor) }], at);
}

/** Loads an anchor to change it: it is locked until the end of the transaction. */
export async function lockAnchor(db: SqlConnection, id: AnchorId): Promise<StoredAnchor | undefined> {
  await lockRevisions(db, [id]);
  return (await loadAnchors(db, [id])).get(id);
}

/** An anchor that became part of another one: its ties end here, and its address leads there. */
export async function removeAnchor(db: SqlConnection, knot: string, anchor: Anchor, to: AnchorId): Promise<void> {
  await wakeLikeAnchors(db, knot, [anchor.id]);
  await endTies(db, knot, anchor.ties);
  await openReferring(db, [anchor.id]);
  await deleteAnchor(db, anchor.id, to);
}

/** Records that are gone in their system: their ties say so, and their anchors are merged in the next run. */
export async function recordsGone(
  db: SqlConnection,
  lease: RunLease,
  member: MemberId,
  keys: readonly RecordKey[],
  at: number,
): Promise<void> {
  await markGone(db, lease, member, keys, at);
  await wakeInDoubt(db, lease.knot, member, keys);
}

/** What was seen through mappings that read another field now says nothing any more. */
export async function forgetSeenFields(
  db: SqlConnection,
  knot: string,
  changed: readonly { readonly member: MemberId; readonly fields: readonly FieldId[] }[],
): Promise<void> {
  for (const { member, fields } of changed) await forgetSeen(db, knot, member, fields);
}

export interface RecordOfTie {
  readonly member: MemberId;
  readonly key: RecordKey;
}

function tiesEnded(before: Anchor | undefined, after: Anchor): readonly RecordOfTie[] {
  const isKept = ({ member, key }: RecordOfTie): boolean =>
    after.ties.some((tie) => tie.member === member && tie.key === key);
  return before?.ties.filter((tie) => !isKept(tie)) ?? [];
}

/** Ends ties, and stores what is left of their anchors, which remember the records that they had. */
async function saveWithoutTies(
  db: SqlConnection,
  knot: string,
  saves: readonly { readonly save: AnchorSave; readonly ended: readonly RecordOfTie[] }[],
  at: number,
): Promise<void> {
  await endTies(
    db,
    knot,
    saves.flatMap(({ ended }) => ended),
  );
  const parted = saves.filter(({ ended }) => ended.length > 0).map(({ save: { anchor } }) => anchor.id);
  if (parted.length > 0) await openReferring(db, parted);
  const remembering = saves.map(({ save, ended }): AnchorSave => {
    if (ended.length === 0) return save;
    const parted = { ...save.anchor.parted, ...Object.fromEntries(ended.map(({ member, key }) => [member, key])) };
    return { ...save, anchor: { ...save.anchor, parted } };
  });
  await save(db, knot, remembering, at, parted);
}

/** Stores anchors, and wakes what may belong to those that are found by something else than before. */
async function save(
  db: SqlConnection,
  knot: string,
  saves: readonly AnchorSave[],
  at: number,
  parted: readonly AnchorId[] = [],
): Promise<void> {
  const changed = await saveAnchors(db, knot, saves, at);
  await wakeLikeAnchors(db, knot, [...new Set([...changed, ...parted])]);
}

async function endTies(db: SqlConnection, knot: string, ties: readonly RecordOfTie[]): Promise<void> {
  if (ties.length > 0) await deleteTies(db, knot, ties);
}
