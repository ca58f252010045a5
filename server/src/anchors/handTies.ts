import type { Forecast as ForecastView, ForecastRequest } from '@anchor-knot/contracts';
import {
  type Anchor,
  anchorId,
  type FieldId,
  forecastOf,
  joinAnchors,
  lastReading,
  type MemberId,
  newTie,
  type Reading,
  recordId,
  type RecordKey,
  recordKey,
  removalOf,
  splitAnchor,
} from '@anchor-knot/core';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import type { LoadedKnot } from '../knots/knots.js';
import { bindReferences } from '../orchestration/bindReferences.js';
import { titleOf } from '../orchestration/planAnchors.js';
import { referenceSource } from '../persistence/referenceSource.js';
import type { SqlConnection, SqlDatabase } from '../persistence/sql.js';
import { loadAnchors, saveIndex } from '../persistence/tables/anchors.js';
import { knotOfAnchor, tiesOfRecords } from '../persistence/tables/ties.js';
import { closeDecisionsOf } from '../persistence/tables/decisions.js';
import { moveHistory, noteTie } from '../persistence/tables/journal.js';
import { outsideReading, putOutside, takeFromLists } from '../persistence/tables/outsideRecords.js';
import { saveVerdicts, verdictsBetween } from '../persistence/tables/verdicts.js';
import { lockAnchor, removeAnchor, storeAnchor } from './door.js';
import { openSave } from './openSave.js';

export type HandOutcome = { readonly kind: 'done' } | Refusal;
export type Refusal =
  | { readonly kind: 'not found'; readonly says: string }
  /** `says` why, and what to do. */
  | { readonly kind: 'not possible'; readonly says: string; readonly advice: string };

/**
 * What a regrouping would come to.
 * @returns each anchor that there would be, with what the next run would do with it
 */
export async function forecast(
  data: SqlDatabase,
  knot: LoadedKnot,
  {
    connect,
    nameOf,
  }: { readonly connect: (member: MemberId) => Promise<Connector>; readonly nameOf: (member: MemberId) => string },
  id: string,
  asked: ForecastRequest,
  now: Date,
): Promise<Refusal | { readonly kind: 'forecast'; readonly forecast: ForecastView }> {
  const loaded = (await loadAnchors(data, [anchorId(id)])).get(anchorId(id));
  if (!loaded) return noAnchor;
  const { anchor } = loaded;
  const at = now.getTime();
  switch (asked.kind) {
    case 'split': {
      const split = splitAnchor(anchor, new Set(asked.members), at);
      return split
        ? { kind: 'forecast', forecast: await viewOf(data, knot, [split.rest, split.parted], at) }
        : nothingLeft;
    }
    case 'merge': {
      const joined = await joinedWith(data, knot, nameOf, anchor, asked.with, at);
      return 'joined' in joined
        ? { kind: 'forecast', forecast: await viewOf(data, knot, [joined.joined], at) }
        : joined;
    }
    case 'tie': {
      const found = await recordToTie(
        data,
        knot,
        await readThere(knot, connect, asked.member, recordKey(asked.key)),
        anchor,
        asked.member,
        recordKey(asked.key),
      );
      if (found.kind !== 'found') return found;
      const ties = [
        ...anchor.ties.filter(({ member }) => member !== asked.member),
        newTie(asked.member, recordKey(asked.key), found.reading, at),
      ];
      return { kind: 'forecast', forecast: await viewOf(data, knot, [{ ...anchor, ties }], at) };
    }
    default:
      throw new Error(`unknown regrouping ${JSON.stringify(asked satisfies never)}`);
  }
}

async function viewOf(
  data: SqlDatabase,
  knot: LoadedKnot,
  anchors: readonly Anchor[],
  at: number,
): Promise<ForecastView> {
  const asking = anchors.map((anchor) => ({ anchor }));
  const compiled = await bindReferences(referenceSource(data), knot.compiled, asking);
  const nameOf = (field: FieldId): string => compiled.fields.find(({ id }) => id === field)?.name ?? field;
  return {
    anchors: anchors.map((anchor, index) => {
      const { starts, operations, held } = forecastOf(compiled, anchor, index > 0, at);
      return {
        title: titleOf(compiled, anchor),
        records: anchor.ties.filter(({ gone }) => !gone).map(({ member, key }) => ({ member, key })),
        keptOut: !starts,
        operations: operations.map((operation) => ({
          member: operation.member,
          kind: operation.kind,
          key: operation.kind === 'create' ? null : operation.key,
          changes: operation.changes.map(({ field, before, after }) => ({
            field: nameOf(field),
            before: (before ?? null) as never,
            after: after as never,
          })),
        })),
        held: held.map(nameOf),
      };
    }),
  };
}

const noAnchor: Refusal = { kind: 'not found', says: 'There is no such anchor any more.' };
const nothingLeft: Refusal = {
  kind: 'not possible',
  says: 'Nothing would be left on one side, or a record that was chosen is not there any more.',
  advice: 'Choose some of its records, not all of them.',
};

/**
 * Takes records out of an anchor by hand: together they are a thing of their own from then on, whatever rules say. What
 * they
 * gave stays where it was written.
 */
export async function splitByHand(
  data: SqlDatabase,
  knot: LoadedKnot,
  id: string,
  members: readonly MemberId[],
  person: string,
  now: Date,
): Promise<HandOutcome> {
  return data.transaction(async (db) => {
    const loaded = await lockAnchor(db, anchorId(id));
    if (!loaded) return noAnchor;
    const { anchor } = loaded;
    const split = splitAnchor(anchor, new Set(members), now.getTime());
    if (!split) return nothingLeft;
    const { rest, parted } = split;
    await storeAnchor(db, knot.id, anchor, openSave(knot.compiled, rest), now.getTime());
    for (const tie of parted.ties) {
      await putOutside(db, knot.id, { member: tie.member, key: tie.key, reading: lastReading(tie) });
      await noteTie(db, knot, id, tie, 'untied', person, now);
    }
    const said = [
      ...verdictsBetween(parted.ties, rest.ties, false),
      ...verdictsBetween(parted.ties, parted.ties, true),
    ];
    await saveVerdicts(db, knot.id, said, { person, at: now });
    return { kind: 'done' };
  });
}

/**
 * Makes another anchor's records this one's; the next run merges what they hold. The other anchor's history and its
 * address lead here.
 */
export async function mergeByHand(
  data: SqlDatabase,
  knot: LoadedKnot,
  nameOf: (member: MemberId) => string,
  id: string,
  other: string,
  person: string,
  now: Date,
): Promise<HandOutcome> {
  return data.transaction(async (db) => {
    // Both in one order, so that two people who merge the same two do not wait for each other.
    for (const each of [id, other].sort()) await lockAnchor(db, anchorId(each));
    const loaded = await lockAnchor(db, anchorId(id));
    if (!loaded) return noAnchor;
    const { anchor } = loaded;
    const joined = await joinedWith(db, knot, nameOf, anchor, other, now.getTime());
    if (!('joined' in joined)) return joined;
    const came = joined.joined.ties.filter((tie) => !tie.gone && !anchor.ties.includes(tie));
    await moveHistory(db, other, id);
    await closeDecisionsOf(db, other, person, now);
    await saveIndex(db, knot.id, [{ anchor: anchorId(other), index: { keys: [], evidence: [] } }]);
    await removeAnchor(db, knot.id, joined.other, anchor.id);
    await storeAnchor(db, knot.id, anchor, openSave(knot.compiled, joined.joined), now.getTime());
    for (const { member, key } of came) await noteTie(db, knot, id, { member, key }, 'tied', person, now);
    await saveVerdicts(
      db,
      knot.id,
      verdictsBetween(
        came,
        anchor.ties.filter(({ gone }) => !gone),
        true,
      ),
      { person, at: now },
    );
    return { kind: 'done' };
  });
}

/** @param nameOf what the system of a member is called */
async function joinedWith(
  db: SqlConnection,
  knot: LoadedKnot,
  nameOf: (member: MemberId) => string,
  anchor: Anchor,
  id: string,
  at: number,
): Promise<Refusal | { readonly joined: Anchor; readonly other: Anchor }> {
  const isOther = (await knotOfAnchor(db, id)) === knot.id && id !== anchor.id;
  const other = isOther ? (await loadAnchors(db, [anchorId(id)])).get(anchorId(id))?.anchor : undefined;
  if (!other) return { kind: 'not found', says: 'There is no other anchor of this knot with that id.' };
  const joined = joinAnchors(anchor, other, at);
  if ('joined' in joined) return { ...joined, other };
  return {
    kind: 'not possible',
    says: `Both have a record in ${joined.both.map(nameOf).join(' and ')}, and an anchor has one in each.`,
    advice: 'Untie one of the two there first, or set it aside as a duplicate.',
  };
}

/**
 * Ties a record to an anchor by hand: one that waits outside, or one that its system has and nothing is known of.
 * Undoes {@link splitByHand}.
 */
export async function tieByHand(
  data: SqlDatabase,
  knot: LoadedKnot,
  connect: (member: MemberId) => Promise<Connector>,
  { anchor: id, member, key: typed }: { readonly anchor: string; readonly member: MemberId; readonly key: string },
  person: string,
  now: Date,
): Promise<HandOutcome> {
  const key = recordKey(typed);
  // Before the transaction: nothing is locked while a system is asked.
  const fresh = await readThere(knot, connect, member, key);
  return data.transaction(async (db) => {
    const loaded = await lockAnchor(db, anchorId(id));
    if (!loaded) return noAnchor;
    const { anchor } = loaded;
    const found = await recordToTie(db, knot, fresh, anchor, member, key);
    if (found.kind !== 'found') return found;
    await takeFromLists(db, knot.id, { member, key });
    const others = anchor.ties.filter((tie) => tie.member !== member);
    // What was once to follow from a deletion is not to be done to a record that comes now.
    const kept = others.map((tie) => (removalOf(tie.end) ? { ...tie, end: 'keep others' as const } : tie));
    const ties = [...kept, newTie(member, key, found.reading, now.getTime())];
    await storeAnchor(db, knot.id, anchor, openSave(knot.compiled, { ...anchor, ties }), now.getTime());
    await noteTie(db, knot, id, { member, key }, 'tied', person, now);
    const there = others.filter(({ gone }) => !gone);
    await saveVerdicts(db, knot.id, verdictsBetween([{ member, key }], there, true), { person, at: now });
    return { kind: 'done' };
  });
}

/** The record, as it was read in its system or is known outside; or why it cannot come to this anchor. */
async function recordToTie(
  db: SqlConnection,
  knot: LoadedKnot,
  fresh: Fresh,
  anchor: Anchor,
  member: MemberId,
  key: RecordKey,
): Promise<Refusal | { readonly kind: 'found'; readonly reading: Reading }> {
  const there = anchor.ties.find((tie) => tie.member === member && !tie.gone);
  if (there)
    return {
      kind: 'not possible',
      says: `It is tied to record ${there.key} of that system already.`,
      advice: 'Untie that one first.',
    };
  const other = (await tiesOfRecords(db, knot.id, [{ member, key }])).get(recordId({ member, key }));
  if (other)
    return {
      kind: 'not possible',
      says: `Record ${key} is tied to “${other.title}”.`,
      advice: 'Untie it there first, or merge the two.',
    };
  if (fresh.kind === 'read') return { kind: 'found', reading: fresh.reading };
  const reading = await outsideReading(db, knot.id, { member, key });
  if (reading) return { kind: 'found', reading };
  return fresh.kind === 'trouble'
    ? fresh.outcome
    : { kind: 'not possible', says: `There is no record ${key} in that system.`, advice: 'Look for its key there.' };
}

type Fresh =
  | { readonly kind: 'read'; readonly reading: Reading }
  | { readonly kind: 'none' }
  | { readonly kind: 'trouble'; readonly outcome: Refusal };

async function readThere(
  { compiled }: LoadedKnot,
  connect: (member: MemberId) => Promise<Connector>,
  member: MemberId,
  key: RecordKey,
): Promise<Fresh> {
  try {
    const connector = await connect(member);
    try {
      const record = await connector.readOne(key);
      if (!record) return { kind: 'none' };
      const fields = compiled.rawFields(member, record);
      const { says } = compiled.failedChecks(member, fields);
      return {
        kind: 'read',
        reading: {
          fields,
          version: record.version,
          modifiedAt: record.modifiedAt,
          ...(says.length > 0 ? { rejected: says } : {}),
        },
      };
    } finally {
      await connector.close().catch(() => undefined);
    }
  } catch (error) {
    if (!(error instanceof SystemTrouble)) throw error;
    return { kind: 'trouble', outcome: { kind: 'not possible', says: error.message, advice: error.advice } };
  }
}

/** A run knows the ties as they were when it began. */
