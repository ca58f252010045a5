import type { DataSource, EntityManager } from 'typeorm';
import { type Ahead, type Anchor, anchorId, type FieldId, type MemberId, type Reading, type RecordKey, recordKey, type Tie, untyingOf } from '@anchor-knot/core';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import type { LoadedKnot } from '../knots/knots.js';
import { expectedFields } from '../orchestration/store.js';
import { keysOfAnchor, titleOf } from '../orchestration/planAnchors.js';
import { anchorFromRows, type AnchorRow, type TieRow, tieToRow } from '../persistence/rows.js';
import { saveAnchors, saveTies } from '../persistence/tables/anchors.js';

export type HandOutcome =
  | { readonly kind: 'done' }
  | { readonly kind: 'not found'; readonly says: string }
  /** `says` why, and what to do. */
  | { readonly kind: 'not possible'; readonly says: string; readonly advice: string };

export async function loadAnchor(db: EntityManager, id: string): Promise<Anchor | undefined> {
  const [row] = (await db.query('select id, agreed, began_in, parked_creates, revision from anchor where id = $1 for update', [id])) as AnchorRow[];
  if (!row) return undefined;
  return anchorFromRows(row, (await db.query('select * from tie where anchor_id = $1 order by member', [id])) as TieRow[]);
}

/** Ties a record that was read to an anchor; what it holds is merged by the next run. */
export async function addTie(db: EntityManager, knot: string, anchor: string, member: MemberId, key: RecordKey, reading: Reading, now: Date): Promise<void> {
  const ahead: Record<FieldId, Ahead> = Object.fromEntries(
    Object.entries(reading.fields).map(([field, raw]) => [field, { raw, noticedAt: now.getTime(), modifiedAt: reading.modifiedAt }]),
  );
  const tie: Tie = { member, key, seen: {}, ahead, left: {}, version: reading.version };
  await saveTies(db, knot, [tieToRow(anchorId(anchor), tie)]);
  await db.query('update anchor set open = true, revision = revision + 1, changed_at = $2 where id = $1', [anchor, now]);
}

/**
 * Takes a record out of an anchor by hand. It is a thing of its own from then on: no rule ties it, as long as it stands
 * outside. What it gave stays where it was written.
 */
export async function untie(data: DataSource, knot: LoadedKnot, id: string, member: MemberId, person: string, now: Date): Promise<HandOutcome> {
  return data.transaction(async (db) => {
    const busy = await underWay(db, knot.id);
    if (busy) return busy;
    const anchor = await loadAnchor(db, id);
    const tie = anchor?.ties.find((one) => one.member === member && !one.gone);
    if (!anchor || !tie) return { kind: 'not found', says: 'There is no such tie any more: it was untied, or its record is gone.' };
    if (!untyingOf(knot.compiled, anchor, member))
      return { kind: 'not possible', says: 'It is the only record of this anchor.', advice: 'Untie another one, or delete the record in its system.' };
    await db.query('delete from tie where knot_id = $1 and member = $2 and record_key = $3', [knot.id, member, tie.key]);
    const reading: Reading = { fields: expectedFields(tie), version: tie.version };
    await db.query(
      `insert into outside_record (knot_id, member, record_key, reading, verdict) values ($1, $2, $3, $4, 'separate')
       on conflict (knot_id, member, record_key) do update set reading = excluded.reading, verdict = excluded.verdict`,
      [knot.id, member, tie.key, JSON.stringify(reading)],
    );
    const rest = { ...anchor, ties: anchor.ties.filter((one) => one !== tie) };
    await saveAnchors(db, knot.id, [{ anchor: rest, open: true, title: titleOf(knot.compiled, rest), keys: keysOfAnchor(knot.compiled, rest) }], now.getTime());
    await note(db, knot, id, member, tie.key, 'untied', person, now);
    return { kind: 'done' };
  });
}

/** Ties a record to an anchor by hand: one that waits outside, or one that its system has and nothing is known of. Undoes {@link untie}. */
export async function tieByHand(
  data: DataSource,
  knot: LoadedKnot,
  connect: (member: MemberId) => Promise<Connector>,
  { anchor: id, member, key: typed }: { readonly anchor: string; readonly member: MemberId; readonly key: string },
  person: string,
  now: Date,
): Promise<HandOutcome> {
  const key = recordKey(typed);
  const fresh = await readThere(knot, connect, member, key);
  return data.transaction(async (db) => {
    const busy = await underWay(db, knot.id);
    if (busy) return busy;
    const anchor = await loadAnchor(db, id);
    if (!anchor) return { kind: 'not found', says: 'There is no such anchor any more.' };
    const there = anchor.ties.find((one) => one.member === member);
    if (there && !there.gone) return { kind: 'not possible', says: `It is tied to record ${there.key} of that system already.`, advice: 'Untie that one first.' };
    const [other] = (await db.query('select a.title from tie t join anchor a on a.id = t.anchor_id where t.knot_id = $1 and t.member = $2 and t.record_key = $3', [
      knot.id,
      member,
      key,
    ])) as { title: string }[];
    if (other) return { kind: 'not possible', says: `Record ${key} is tied to “${other.title}”.`, advice: 'Untie it there first.' };
    const [outside] = (await db.query('delete from outside_record where knot_id = $1 and member = $2 and record_key = $3 returning reading', [
      knot.id,
      member,
      key,
    ])) as unknown as [{ reading: Reading }[]];
    const reading = fresh.kind === 'read' ? fresh.reading : outside[0]?.reading;
    if (!reading) return fresh.kind === 'trouble' ? fresh.outcome : { kind: 'not possible', says: `There is no record ${key} in that system.`, advice: 'Look for its key there.' };
    if (there) await db.query('delete from tie where knot_id = $1 and member = $2 and record_key = $3', [knot.id, member, there.key]);
    await addTie(db, knot.id, id, member, key, reading, now);
    await note(db, knot, id, member, key, 'tied', person, now);
    return { kind: 'done' };
  });
}

type Fresh = { readonly kind: 'read'; readonly reading: Reading } | { readonly kind: 'none' } | { readonly kind: 'trouble'; readonly outcome: HandOutcome };

async function readThere({ compiled }: LoadedKnot, connect: (member: MemberId) => Promise<Connector>, member: MemberId, key: RecordKey): Promise<Fresh> {
  try {
    const connector = await connect(member);
    try {
      const record = await connector.readOne(key);
      if (!record) return { kind: 'none' };
      const fields = compiled.rawFields(member, record);
      const { says } = compiled.failedChecks(member, fields);
      return { kind: 'read', reading: { fields, version: record.version, modifiedAt: record.modifiedAt, ...(says.length > 0 ? { rejected: says } : {}) } };
    } finally {
      await connector.close().catch(() => undefined);
    }
  } catch (error) {
    if (!(error instanceof SystemTrouble)) throw error;
    return { kind: 'trouble', outcome: { kind: 'not possible', says: error.message, advice: error.advice } };
  }
}

/** A run knows the ties as they were when it began. */
async function underWay(db: EntityManager, knot: string): Promise<HandOutcome | undefined> {
  const [run] = (await db.query('select id from run where knot_id = $1 and ended_at is null and lease_until > now()', [knot])) as { id: string }[];
  return run && { kind: 'not possible', says: 'A run of this knot is under way.', advice: 'Do it again when the run has ended.' };
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
  await db.query('insert into journal (knot_id, anchor_id, member, record_key, kind, cause, knot_version, at) values ($1, $2, $3, $4, $5, $6, $7, $8)', [
    knot,
    anchor,
    member,
    key,
    kind,
    JSON.stringify({ kind: 'person', name: person, over: [] }),
    version,
    now,
  ]);
  await db.query('insert into audit (person, action, detail) values ($1, $2, $3)', [person, kind, JSON.stringify({ knot, anchor, member, key })]);
}
