import type { CompiledKnot } from '../definition/index.js';
import {
  type Ahead,
  type Anchor,
  expectedFields,
  mergeAnchor,
  type Reading,
  removalOf,
  type Tie,
} from '../merge/index.js';
import type { FieldId, Instant, MemberId, RecordKey } from '../record/index.js';
import type { Operation } from './operation.js';
import { planAnchor } from './planAnchor.js';

/** The tie of a record that comes to an anchor: all that it holds is an edit that knows of nothing there. */
export function newTie(member: MemberId, key: RecordKey, reading: Reading, at: Instant): Tie {
  const ahead: Record<FieldId, Ahead> = Object.fromEntries(
    Object.entries(reading.fields).map(([field, raw]) => [
      field,
      { raw, noticedAt: at, modifiedAt: reading.modifiedAt },
    ]),
  );
  return {
    member,
    key,
    seen: {},
    ahead,
    left: {},
    version: reading.version,
    ...(reading.rejected ? { rejected: reading.rejected } : {}),
  };
}

/** What is known of a tie's record without reading it. */
export function lastReading(tie: Tie): Reading {
  const { version, rejected } = tie;
  return { fields: expectedFields(tie), version, ...(rejected ? { rejected } : {}) };
}

/**
 * Takes the records of some members out of an anchor: they are one thing of their own, which begins anew.
 * @returns `undefined` where a side would have no record that is there
 */
export function splitAnchor(
  anchor: Anchor,
  members: ReadonlySet<MemberId>,
  at: Instant,
): { readonly rest: Anchor; readonly parted: Anchor } | undefined {
  const parted = anchor.ties.filter(({ member, gone }) => members.has(member) && !gone);
  const ties = anchor.ties.filter((tie) => !parted.includes(tie));
  if (parted.length < members.size || parted.length === 0 || ties.every(({ gone }) => gone)) return undefined;
  return {
    rest: { ...anchor, ties },
    parted: {
      id: anchor.id,
      agreed: {},
      beganIn: parted.map(({ member }) => member),
      parkedCreates: {},
      ties: parted.map((tie) => newTie(tie.member, tie.key, lastReading(tie), at)),
    },
  };
}

/**
 * Makes two anchors one: the first stays, the records of the other come to it. A gone tie makes room for one that is
 * there.
 * @returns the members in which both have a record, where there are such: they cannot be one
 */
export function joinAnchors(
  anchor: Anchor,
  other: Anchor,
  at: Instant,
): { readonly joined: Anchor } | { readonly both: readonly MemberId[] } {
  const coming = other.ties.filter(({ gone }) => !gone);
  const both = coming
    .filter(({ member }) => anchor.ties.some((tie) => tie.member === member && !tie.gone))
    .map(({ member }) => member);
  if (both.length > 0) return { both };
  const staying = anchor.ties.filter(({ member }) => !coming.some((tie) => tie.member === member));
  const came = coming.map((tie) => newTie(tie.member, tie.key, lastReading(tie), at));
  // What is gone there is not created again here.
  const gone = other.ties.filter(
    (tie) => tie.gone && ![...anchor.ties, ...coming].some(({ member }) => member === tie.member),
  );
  // What was once to follow from a deletion is not to be done to records that come now.
  const settled = (tie: Tie): Tie => (removalOf(tie.end) ? { ...tie, end: 'keep others' } : tie);
  return { joined: { ...anchor, ties: [...staying.map(settled), ...came, ...gone.map(settled)] } };
}

/** What the next run would do with an anchor, if no system changed until then. */
export interface Forecast {
  /** False where no record of it may start a thing: it would be kept out. */
  readonly starts: boolean;
  readonly operations: readonly Operation[];
  /** Fields that a person would have to settle. */
  readonly held: readonly FieldId[];
}

export function forecastOf(knot: CompiledKnot, anchor: Anchor, isNew: boolean, now: Instant): Forecast {
  const starts =
    !isNew || anchor.ties.some(({ member, rejected, gone }) => !gone && !rejected && knot.member(member).startsAnchors);
  if (!starts) return { starts, operations: [], held: [] };
  const merge = mergeAnchor({ knot, anchor, readings: new Map(), now });
  return {
    starts,
    operations: planAnchor(knot, merge, now).operations,
    held: merge.held.map(({ field }) => field),
  };
}
