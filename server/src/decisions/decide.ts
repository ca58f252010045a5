import type { DataSource, EntityManager } from 'typeorm';
import type { Choice } from '@anchor-knot/contracts';
import { type Reading, recordKey, settleHeld, type Shared } from '@anchor-knot/core';
import type { LoadedKnot } from '../knots/knots.js';
import { expectedFields } from '../orchestration/store.js';
import { addTie, loadAnchor } from '../anchors/handTies.js';
import { saveTies } from '../persistence/tables/anchors.js';
import { agreedToColumn, tieToRow } from '../persistence/rows.js';

export type DecideOutcome =
  { readonly kind: 'decided' } | { readonly kind: 'not found' } | { readonly kind: 'changed meanwhile' } | { readonly kind: 'not a choice'; readonly says: string };

interface DecisionRow {
  id: string;
  kind: string;
  anchor_id: string | null;
  member: string | null;
  record_key: string | null;
  field: string | null;
  detail: Record<string, never>;
  fingerprint: string;
}

/** Takes a person's choice on a decision. It takes effect with the next run, which merges the anchors concerned. */
export async function decide(data: DataSource, knot: LoadedKnot, decisionId: string, choice: Choice, person: string, now: Date): Promise<DecideOutcome> {
  return data.transaction(async (db) => {
    const [decision] = (await db.query(
      'select id, kind, anchor_id, member, record_key, field, detail, fingerprint from decision where id = $1 and knot_id = $2 and closed_at is null for update',
      [decisionId, knot.id],
    )) as DecisionRow[];
    if (!decision) return { kind: 'not found' };
    if (decision.fingerprint !== choice.fingerprint) return { kind: 'changed meanwhile' };
    const outcome = await apply(db, knot, decision, choice, person, now);
    if (outcome.kind === 'decided') {
      await db.query('update decision set closed_at = $2, closed_by = $3, choice = $4 where id = $1', [decision.id, now, person, JSON.stringify(choice)]);
      await db.query(`insert into audit (person, action, detail) values ($1, 'decided', $2)`, [
        person,
        JSON.stringify({ decision: decision.id, kind: decision.kind, choose: choice.choose }),
      ]);
    }
    return outcome;
  });
}

async function apply(db: EntityManager, knot: LoadedKnot, decision: DecisionRow, choice: Choice, person: string, now: Date): Promise<DecideOutcome> {
  switch (choice.choose) {
    case 'value':
      return decision.kind === 'held' ? settle(db, knot, decision, choice, person, now) : wrongChoice(decision);
    case 'record':
      return decision.kind === 'duplicate' ? chooseRecord(db, knot, decision, choice.key, now) : wrongChoice(decision);
    case 'anchor':
      return decision.kind === 'unsure match' ? tieToAnchor(db, knot, decision, choice.anchor, now) : wrongChoice(decision);
    case 'separate':
      if (decision.kind !== 'unsure match' && decision.kind !== 'duplicate') return wrongChoice(decision);
      await setVerdict(db, knot.id, decision.member as string, keysOf(decision), 'separate');
      return { kind: 'decided' };
    case 'keep others':
    case 'archive others':
    case 'delete others':
      return decision.kind === 'deleted elsewhere' ? sayWhatFollows(db, decision, choice.choose) : wrongChoice(decision);
    case 'try again':
      return tryAgain(db, decision);
    default:
      throw new Error(`unknown choice ${JSON.stringify(choice satisfies never)}`);
  }
}

function wrongChoice({ kind }: DecisionRow): DecideOutcome {
  return { kind: 'not a choice', says: `this cannot be chosen for a decision of the kind “${kind}”` };
}

async function settle(db: EntityManager, knot: LoadedKnot, decision: DecisionRow, choice: Extract<Choice, { choose: 'value' }>, person: string, now: Date): Promise<DecideOutcome> {
  const loaded = await loadAnchor(db, decision.anchor_id as string);
  if (!loaded) return { kind: 'not found' };
  const field = decision.field as string;
  const settled = settleHeld(knot.compiled, loaded, { field, fingerprint: choice.fingerprint, value: choice.value as Shared, person, at: now.getTime() });
  if (!settled.ok) return settled.reason === 'not a choice' ? { kind: 'not a choice', says: 'choose one of the values shown' } : { kind: 'changed meanwhile' };
  await db.query('update anchor set agreed = $2, open = true, revision = revision + 1, changed_at = $3 where id = $1', [
    loaded.id,
    JSON.stringify(agreedToColumn(settled.anchor.agreed)),
    now,
  ]);
  await saveTies(
    db,
    knot.id,
    settled.anchor.ties.map((tie) => tieToRow(loaded.id, tie)),
  );
  const agreed = settled.anchor.agreed[field];
  await db.query(`insert into journal (knot_id, anchor_id, kind, field, meaning, cause, knot_version, at) values ($1, $2, 'chosen', $3, $4, $5, $6, $7)`, [
    knot.id,
    loaded.id,
    field,
    JSON.stringify(agreed?.value ?? null),
    JSON.stringify(agreed?.why),
    knot.version,
    now,
  ]);
  return { kind: 'decided' };
}

/** One of several duplicates is kept the same; the others are set aside until that changes. */
async function chooseRecord(db: EntityManager, knot: LoadedKnot, decision: DecisionRow, chosen: string, now: Date): Promise<DecideOutcome> {
  const member = decision.member as string;
  const tiedKey = (decision.detail as { tiedKey?: string | null }).tiedKey ?? undefined;
  const all = [...keysOf(decision), ...(tiedKey === undefined ? [] : [tiedKey])];
  if (!all.includes(chosen)) return { kind: 'not a choice', says: 'choose one of the records shown' };
  if (tiedKey !== undefined && chosen !== tiedKey) {
    const loaded = await loadAnchor(db, decision.anchor_id as string);
    const tie = loaded?.ties.find((one) => one.member === member);
    if (!loaded || tie?.key !== recordKey(tiedKey)) return { kind: 'changed meanwhile' };
    const reading: Reading = { fields: expectedFields(tie), version: tie.version };
    await db.query('delete from tie where knot_id = $1 and member = $2 and record_key = $3', [knot.id, member, tiedKey]);
    await db.query('insert into outside_record (knot_id, member, record_key, reading, verdict) values ($1, $2, $3, $4, null) on conflict do nothing', [
      knot.id,
      member,
      tiedKey,
      JSON.stringify(reading),
    ]);
    await db.query('update anchor set open = true, revision = revision + 1, changed_at = $2 where id = $1', [loaded.id, now]);
  }
  await setVerdict(
    db,
    knot.id,
    member,
    all.filter((key) => key !== chosen && (key !== tiedKey || chosen !== tiedKey)),
    'aside',
  );
  return { kind: 'decided' };
}

async function tieToAnchor(db: EntityManager, knot: LoadedKnot, decision: DecisionRow, chosen: string, now: Date): Promise<DecideOutcome> {
  const offered = (decision.detail as { anchors?: string[] }).anchors ?? [];
  if (!offered.includes(chosen)) return { kind: 'not a choice', says: 'choose one of those shown' };
  const loaded = await loadAnchor(db, chosen);
  const member = decision.member as string;
  if (!loaded) return { kind: 'not found' };
  if (loaded.ties.some((tie) => tie.member === member)) return { kind: 'not a choice', says: 'that one is tied to another record of this system already' };
  const [record] = (await db
    .query('delete from outside_record where knot_id = $1 and member = $2 and record_key = $3 returning reading', [knot.id, member, decision.record_key])
    .then((result: unknown) => (result as [unknown[]])[0])) as { reading: Reading }[];
  if (!record) return { kind: 'changed meanwhile' };
  await addTie(db, knot.id, chosen, member, recordKey(decision.record_key as string), record.reading, now);
  return { kind: 'decided' };
}

/** What becomes of the other records of a thing that was deleted in one system. */
async function sayWhatFollows(db: EntityManager, decision: DecisionRow, follows: 'keep others' | 'archive others' | 'delete others'): Promise<DecideOutcome> {
  const { others } = decision.detail as unknown as { others: readonly { archive: boolean; delete: boolean }[] };
  const may = follows === 'archive others' ? 'archive' : 'delete';
  if (follows !== 'keep others' && !others.some((other) => other[may])) return { kind: 'not a choice', says: `the knot may ${may} none of these records` };
  const [rows] = (await db.query('update tie set ended = $3 where anchor_id = $1 and member = $2 and gone returning record_key', [
    decision.anchor_id,
    decision.member,
    follows,
  ])) as [unknown[], number];
  if (rows.length === 0) return { kind: 'changed meanwhile' };
  await db.query('update anchor set open = true, revision = revision + 1 where id = $1', [decision.anchor_id]);
  return { kind: 'decided' };
}

async function tryAgain(db: EntityManager, decision: DecisionRow): Promise<DecideOutcome> {
  if (decision.kind === 'unclear write') {
    await db.query('delete from write_intent where id = $1', [(decision.detail as { intent?: string }).intent]);
  } else if (decision.kind === 'refused') {
    await db.query('update tie set parked = null where anchor_id = $1 and member = $2', [decision.anchor_id, decision.member]);
    await db.query('update anchor set parked_creates = parked_creates - $2::text where id = $1', [decision.anchor_id, decision.member]);
  } else return wrongChoice(decision);
  await db.query('update anchor set open = true, revision = revision + 1 where id = $1', [decision.anchor_id]);
  return { kind: 'decided' };
}

function keysOf({ detail, record_key }: DecisionRow): string[] {
  return (detail as { keys?: string[] }).keys ?? (record_key === null ? [] : [record_key]);
}

async function setVerdict(db: EntityManager, knot: string, member: string, keys: readonly string[], verdict: 'aside' | 'separate'): Promise<void> {
  await db.query('update outside_record set verdict = $4 where knot_id = $1 and member = $2 and record_key = any($3::text[])', [knot, member, keys, verdict]);
}
