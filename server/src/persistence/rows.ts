import { type Anchor, anchorId, type AnchorId, recordKey, type Tie } from '@anchor-knot/core';
import { tieFingerprint } from '../orchestration/fingerprint.js';

/** A tie as its row: column names are the keys. */
export interface TieRow {
  member: string;
  record_key: string;
  anchor_id: string;
  seen: Tie['seen'];
  ahead: Tie['ahead'];
  left_alone: Tie['left'];
  rejected: Tie['rejected'] | null;
  parked: Tie['parked'] | null;
  version: string | null;
  gone: boolean;
  fingerprint: string;
}

export interface AnchorRow {
  id: string;
  agreed: Anchor['agreed'];
  parked_creates: Anchor['parkedCreates'];
  revision: number;
}

export function tieToRow(anchor: AnchorId, tie: Tie): TieRow {
  return {
    member: tie.member,
    record_key: tie.key,
    anchor_id: anchor,
    seen: tie.seen,
    ahead: tie.ahead,
    left_alone: tie.left,
    rejected: tie.rejected ?? null,
    parked: tie.parked ?? null,
    version: tie.version ?? null,
    gone: tie.gone ?? false,
    fingerprint: tieFingerprint(tie),
  };
}

export function tieFromRow(row: TieRow): Tie {
  return {
    member: row.member,
    key: recordKey(row.record_key),
    seen: row.seen,
    ahead: row.ahead,
    left: row.left_alone,
    ...(row.gone ? { gone: true } : {}),
    ...(row.version === null ? {} : { version: row.version }),
    ...(row.rejected ? { rejected: row.rejected } : {}),
    ...(row.parked ? { parked: row.parked } : {}),
  };
}

export function anchorFromRows(row: AnchorRow, ties: readonly TieRow[]): Anchor {
  return { id: anchorId(row.id), agreed: row.agreed, parkedCreates: row.parked_creates, ties: ties.map(tieFromRow) };
}
