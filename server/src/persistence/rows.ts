import {
  type Agreed,
  type Anchor,
  anchorId,
  type AnchorId,
  type FieldId,
  recordKey,
  type Shared,
  type Tie,
} from '@anchor-knot/core';
import { tieFingerprint } from '../orchestration/fingerprint.js';

/** Below every anchor's id: where a walk through anchors in order begins. */
export const leastAnchor = '00000000-0000-0000-0000-000000000000';
export const greatestAnchor = 'ffffffff-ffff-ffff-ffff-ffffffffffff';

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
  outcomes: NonNullable<Tie['outcomes']> | null;
  unacknowledged_since: Date | null;
  version: string | null;
  gone: boolean;
  ended: NonNullable<Tie['end']> | null;
  fingerprint: string;
}

/**
 * What an anchor's fields agree on, as it is stored: most fields were given by the same member at the same moment for
 * the
 * same reason, which is written once for all of them.
 */
export type AgreedColumn = readonly (Omit<Agreed, 'value'> & { readonly values: Readonly<Record<FieldId, Shared>> })[];

export interface AnchorRow {
  id: string;
  agreed: AgreedColumn;
  began_in: Anchor['beganIn'];
  parked_creates: Anchor['parkedCreates'];
  parted: NonNullable<Anchor['parted']> | null;
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
    outcomes: tie.outcomes ?? null,
    unacknowledged_since: tie.unacknowledgedSince === undefined ? null : new Date(tie.unacknowledgedSince),
    version: tie.version ?? null,
    gone: tie.gone ?? false,
    ended: tie.end ?? null,
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
    ...(row.ended === null ? {} : { end: row.ended }),
    ...(row.version === null ? {} : { version: row.version }),
    ...(row.rejected ? { rejected: row.rejected } : {}),
    ...(row.parked ? { parked: row.parked } : {}),
    ...(row.outcomes ? { outcomes: row.outcomes } : {}),
    ...(row.unacknowledged_since ? { unacknowledgedSince: row.unacknowledged_since.getTime() } : {}),
  };
}

export function anchorFromRows(row: AnchorRow, ties: readonly TieRow[]): Anchor {
  return {
    id: anchorId(row.id),
    agreed: agreedFromColumn(row.agreed),
    beganIn: row.began_in,
    parkedCreates: row.parked_creates,
    ...(row.parted ? { parted: row.parted } : {}),
    ties: ties.map(tieFromRow),
  };
}

export function agreedToColumn(agreed: Anchor['agreed']): AgreedColumn {
  const givings: (Omit<Agreed, 'value'> & { values: Record<FieldId, Shared> })[] = [];
  for (const field of Object.keys(agreed)) {
    const one = agreed[field] as Agreed;
    const giving = givings.find((other) => isGivenAlike(other, one));
    if (giving) giving.values[field] = one.value;
    else {
      const { value, ...given } = one;
      givings.push({ ...given, values: { [field]: value } });
    }
  }
  return givings;
}

/** Most was given by the same members at the same moment: that is seen without making JSON of it, which costs more. */
function isGivenAlike(a: Omit<Agreed, 'value'>, b: Omit<Agreed, 'value'>): boolean {
  return a.at === b.at && isAlike(a.by, b.by) && isAlike(a.also ?? none, b.also ?? none) && isAlike(a.why, b.why);
}

const none: readonly never[] = [];

/** Whether two values are equal as JSON with the same order of names. */
function isAlike(a: unknown, b: unknown): boolean {
  if (a === b) return true;
  if (typeof a !== 'object' || typeof b !== 'object' || a === null || b === null) return false;
  if (Array.isArray(a) && Array.isArray(b))
    return a.length === b.length && a.every((item, place) => isAlike(item, b[place]));
  const [names, others] = [Object.keys(a), Object.keys(b)];
  return (
    names.length === others.length &&
    names.every((name) => isAlike((a as Record<string, unknown>)[name], (b as Record<string, unknown>)[name]))
  );
}

export function agreedFromColumn(column: AgreedColumn): Anchor['agreed'] {
  const agreed: Record<FieldId, Agreed> = {};
  for (const { values, ...given } of column)
    for (const [field, value] of Object.entries(values)) agreed[field] = { value, ...given };
  return agreed;
}

/** Items by the anchor they belong to. */
export function byAnchor<Id extends string, T>(items: readonly T[], anchorOf: (item: T) => Id): Map<Id, T[]> {
  const groups = new Map<Id, T[]>();
  for (const item of items) {
    const group = groups.get(anchorOf(item));
    if (group) group.push(item);
    else groups.set(anchorOf(item), [item]);
  }
  return groups;
}
