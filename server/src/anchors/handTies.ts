import type { DataSource, EntityManager } from 'typeorm';
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
  type RecordKey,
  recordKey,
  splitAnchor,
} from '@anchor-knot/core';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import type { LoadedKnot } from '../knots/knots.js';
import { indexOfAnchors } from '../orchestration/indexAnchors.js';
import { titleOf } from '../orchestration/planAnchors.js';
import { anchorFromRows, type AnchorRow, type TieRow } from '../persistence/rows.js';
import { saveAnchors, saveIndex } from '../persistence/tables/anchors.js';
import { saveVerdicts, verdictsBetween } from '../persistence/tables/verdicts.js';

export type HandOutcome = { readonly kind: 'done' } | Refusal;
export type Refusal =
  | { readonly kind: 'not found'; readonly says: string }
  /** `says` why, and what to do. */
  | { readonly kind: 'not possible'; readonly says: string; readonly advice: string };

export async function loadAnchor(db: EntityManager, id: string): Promise<Anchor | undefined> {
  const [row] = (await db.query(
    'select id, agreed, began_in, parked_creates, revision from anchor where id = $1 for update',
    [id],
  )) as AnchorRow[];
  if (!row) return undefined;
  return anchorFromRows(
    row,
    (await db.query('select * from tie where anchor_id = $1 order by member', [id])) as TieRow[],
  );
}

/**
 * What a regrouping would come to.
 * @returns each anchor that there would be, with what the next run would do with it
 */
export async function forecast(
  data: DataSource,
  knot: LoadedKnot,
  {
    connect,
    nameOf,
  }: { readonly connect: (member: MemberId) => Promise<Connector>; readonly nameOf: (member: MemberId) => string },
  id: string,
  asked: ForecastRequest,
  now: Date,
): Promise<Refusal | { readonly kind: 'forecast'; readonly forecast: ForecastView }> {
  const anchor = await loadAnchor(data.manager, id);
  if (!anchor) return noAnchor;
  const at = now.getTime();
  switch (asked.kind) {
    case 'split': {
      const split = splitAnchor(anchor, new Set(asked.members), at);
      return split ? { kind: 'forecast', forecast: viewOf(knot, [split.rest, split.parted], at) } : nothingLeft;
    }
    case 'merge': {
      const joined = await joinedWith(data.manager, knot, nameOf, anchor, asked.with, at);
      return 'joined' in joined ? { kind: 'forecast', forecast: viewOf(knot, [joined.joined], at) } : joined;
    }
    case 'tie': {
      const found = await recordToTie(
        data.manager,
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
      return { kind: 'forecast', forecast: viewOf(knot, [{ ...anchor, ties }], at) };
    }
    default:
      throw new Error(`unknown regrouping ${JSON.stringify(asked satisfies never)}`);
  }
}

function viewOf({ compiled }: LoadedKnot, anchors: readonly Anchor[], at: number): ForecastView {
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
  data: DataSource,
  knot: LoadedKnot,
  id: string,
  members: readonly MemberId[],
  person: string,
  now: Date,
): Promise<HandOutcome> {
  return data.transaction(async (db) => {
    const busy = await underWay(db, knot.id);
    if (busy) return busy;
    const anchor = await loadAnchor(db, id);
    if (!anchor) return noAnchor;
    const split = splitAnchor(anchor, new Set(members), now.getTime());
    if (!split) return nothingLeft;
    const { rest, parted } = split;
    for (const tie of parted.ties) {
      await db.query('delete from tie where knot_id = $1 and member = $2 and record_key = $3', [
        knot.id,
        tie.member,
        tie.key,
      ]);
      await db.query(
        `insert into outside_record (knot_id, member, record_key, reading) values ($1, $2, $3, $4)
         on conflict (knot_id, member, record_key) do update set reading = excluded.reading, verdict = null`,
        [knot.id, tie.member, tie.key, JSON.stringify(lastReading(tie))],
      );
      await note(db, knot, id, tie.member, tie.key, 'untied', person, now);
    }
    await saveAnchor(db, knot, rest, now);
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
  data: DataSource,
  knot: LoadedKnot,
  nameOf: (member: MemberId) => string,
  id: string,
  other: string,
  person: string,
  now: Date,
): Promise<HandOutcome> {
  return data.transaction(async (db) => {
    const busy = await underWay(db, knot.id);
    if (busy) return busy;
    const anchor = await loadAnchor(db, id);
    if (!anchor) return noAnchor;
    const joined = await joinedWith(db, knot, nameOf, anchor, other, now.getTime());
    if (!('joined' in joined)) return joined;
    const came = joined.joined.ties.filter((tie) => !tie.gone && !anchor.ties.includes(tie));
    await db.query('delete from tie where anchor_id = $1 or (anchor_id = $2 and gone and member = any($3::text[]))', [
      other,
      id,
      came.map(({ member }) => member),
    ]);
    await db.query('update journal set anchor_id = $2 where anchor_id = $1', [other, id]);
    await db.query('update decision set closed_at = $2, closed_by = $3 where anchor_id = $1 and closed_at is null', [
      other,
      now,
      person,
    ]);
    await db.query('update anchor_redirect set to_id = $2 where to_id = $1', [other, id]);
    await db.query('insert into anchor_redirect (from_id, to_id) values ($1, $2)', [other, id]);
    await saveIndex(db, knot.id, [{ anchor: anchorId(other), index: { keys: [], evidence: [] } }]);
    await db.query('delete from anchor where id = $1', [other]);
    await saveAnchor(db, knot, joined.joined, now);
    for (const { member, key } of came) await note(db, knot, id, member, key, 'tied', person, now);
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
  db: EntityManager,
  knot: LoadedKnot,
  nameOf: (member: MemberId) => string,
  anchor: Anchor,
  id: string,
  at: number,
): Promise<Refusal | { readonly joined: Anchor }> {
  const [row] = (await db.query('select knot_id from anchor where id = $1', [id])) as { knot_id: string }[];
  const other = row?.knot_id === knot.id && id !== anchor.id ? await loadAnchor(db, id) : undefined;
  if (!other) return { kind: 'not found', says: 'There is no other anchor of this knot with that id.' };
  const joined = joinAnchors(anchor, other, at);
  if ('joined' in joined) return joined;
  return {
    kind: 'not possible',
    says: `Both have a record in ${joined.both.map(nameOf).join(' and ')}, and an anchor has one in each.`,
    advice: 'Untie one of the two there first, or set it aside as a duplicate.',
  };
}

async function saveAnchor(db: EntityManager, knot: LoadedKnot, anchor: Anchor, now: Date): Promise<void> {
  const [index] = indexOfAnchors(knot.compiled, [anchor]);
  if (index)
    await saveAnchors(
      db,
      knot.id,
      [{ anchor, open: true, title: titleOf(knot.compiled, anchor), index }],
      now.getTime(),
    );
}

/**
 * Ties a record to an anchor by hand: one that waits outside, or one that its system has and nothing is known of.
 * Undoes {@link splitByHand}.
 */
export async function tieByHand(
  data: DataSource,
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
    const busy = await underWay(db, knot.id);
    if (busy) return busy;
    const anchor = await loadAnchor(db, id);
    if (!anchor) return noAnchor;
    const found = await recordToTie(db, knot, fresh, anchor, member, key);
    if (found.kind !== 'found') return found;
    await db.query('delete from outside_record where knot_id = $1 and member = $2 and record_key = $3', [
      knot.id,
      member,
      key,
    ]);
    await db.query('delete from tie where anchor_id = $1 and member = $2 and gone', [id, member]);
    const others = anchor.ties.filter((tie) => tie.member !== member);
    await saveAnchor(
      db,
      knot,
      { ...anchor, ties: [...others, newTie(member, key, found.reading, now.getTime())] },
      now,
    );
    await note(db, knot, id, member, key, 'tied', person, now);
    const there = others.filter(({ gone }) => !gone);
    await saveVerdicts(db, knot.id, verdictsBetween([{ member, key }], there, true), { person, at: now });
    return { kind: 'done' };
  });
}

/** The record, as it was read in its system or is known outside; or why it cannot come to this anchor. */
async function recordToTie(
  db: EntityManager,
  knot: LoadedKnot,
  fresh: Fresh,
  anchor: Anchor,
  member: MemberId,
  key: RecordKey,
): Promise<Refusal | { readonly kind: 'found'; readonly reading: Reading }> {
  const there = anchor.ties.find((one) => one.member === member && !one.gone);
  if (there)
    return {
      kind: 'not possible',
      says: `It is tied to record ${there.key} of that system already.`,
      advice: 'Untie that one first.',
    };
  const [other] = (await db.query(
    'select a.title from tie t join anchor a on a.id = t.anchor_id where t.knot_id = $1 and t.member = ' +
      '$2 and t.record_key = $3',
    [knot.id, member, key],
  )) as { title: string }[];
  if (other)
    return {
      kind: 'not possible',
      says: `Record ${key} is tied to “${other.title}”.`,
      advice: 'Untie it there first, or merge the two.',
    };
  if (fresh.kind === 'read') return { kind: 'found', reading: fresh.reading };
  const [outside] = (await db.query(
    'select reading from outside_record where knot_id = $1 and member = $2 and record_key = $3',
    [knot.id, member, key],
  )) as { reading: Reading }[];
  if (outside) return { kind: 'found', reading: outside.reading };
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
async function underWay(db: EntityManager, knot: string): Promise<Refusal | undefined> {
  const [run] = (await db.query('select id from run where knot_id = $1 and ended_at is null and lease_until > now()', [
    knot,
  ])) as { id: string }[];
  return (
    run && {
      kind: 'not possible',
      says: 'A run of this knot is under way.',
      advice: 'Do it again when the run has ended.',
    }
  );
}

async function note(
  db: EntityManager,
  { id: knot, version }: LoadedKnot,
  anchor: string,
  member: MemberId,
  key: RecordKey,
  kind: 'tied' | 'untied',
  person: string,
  now: Date,
): Promise<void> {
  await db.query(
    'insert into journal (knot_id, anchor_id, member, record_key, kind, cause, knot_version, at) values ' +
      '($1, $2, $3, $4, $5, $6, $7, $8)',
    [knot, anchor, member, key, kind, JSON.stringify({ kind: 'person', name: person, over: [] }), version, now],
  );
  await db.query('insert into audit (person, action, detail) values ($1, $2, $3)', [
    person,
    kind,
    JSON.stringify({ knot, anchor, member, key }),
  ]);
}
