import { type Choice, type DecisionKind, thingOf } from '@anchor-knot/contracts';
import {
  type Anchor,
  anchorId,
  expectedFields,
  type MemberId,
  type OutcomeAccount,
  type Reading,
  recordKey,
  type RecordName,
  settleHeld,
  type Shared,
  type Tie,
} from '@anchor-knot/core';
import { changeAnchors, lockAnchor, storeAnchor } from '../anchors/door.js';
import { openSave } from '../anchors/openSave.js';
import type { LoadedKnot } from '../knots/knots.js';
import { bindReferences } from '../orchestration/bindReferences.js';
import type { StoredAnchor } from '../orchestration/stored.js';
import { referenceSource } from '../persistence/referenceSource.js';
import type { SqlConnection, SqlDatabase } from '../persistence/sql.js';
import { recordsOf } from '../persistence/tables/ties.js';
import { noteAct } from '../persistence/tables/audit.js';
import {
  closeDecision,
  type DecisionRow,
  type AnchorBefore,
  type DecisionRowOf,
  lockDecision,
  putOff,
  putOffUntil,
  reopenDecision,
} from '../persistence/tables/decisions.js';
import { anchorFromRows, agreedToColumn, tieToRow } from '../persistence/rows.js';
import { closeIntents, forgetChoice, noteChoice } from '../persistence/tables/journal.js';
import { putOutside } from '../persistence/tables/outsideRecords.js';
import { setAside } from '../persistence/tables/recordLists.js';
import { hasRunSince } from '../persistence/tables/runLists.js';
import { dropVerdictsOf, saveVerdicts, verdictsBetween } from '../persistence/tables/verdicts.js';

export type DecideOutcome =
  | { readonly kind: 'decided' }
  | { readonly kind: 'not found' }
  | { readonly kind: 'changed meanwhile' }
  | { readonly kind: 'not a choice'; readonly says: string };

/** Takes a person's choice on a decision. It takes effect with the next run, which merges the anchors concerned. */
export async function decide(
  data: SqlDatabase,
  knot: LoadedKnot,
  decisionId: string,
  choice: Choice,
  person: string,
  now: Date,
): Promise<DecideOutcome> {
  return data.transaction(async (db) => {
    const decision = await lockDecision(db, knot.id, decisionId);
    if (!decision || decision.closed_at !== null) return { kind: 'not found' };
    if (decision.fingerprint !== choice.fingerprint) return { kind: 'changed meanwhile' };
    if (choice.choose === 'later') {
      await putOff(db, decision.id, now);
      return { kind: 'decided' };
    }
    const before = decision.anchor_id === null ? undefined : await lockAnchor(db, anchorId(decision.anchor_id));
    const outcome = await apply(db, knot, decision, choice, person, now);
    if (outcome.kind === 'decided') {
      const undo = before && isTakenBackWhole(decision, choice) ? await wayBack(db, before.anchor) : undefined;
      await closeDecision(db, decision.id, choice, person, now, undo);
      const { id, kind } = decision;
      await noteAct(db, person, 'decided', { decision: id, kind, choose: choice.choose });
    }
    return outcome;
  });
}

async function apply(
  db: SqlConnection,
  knot: LoadedKnot,
  decision: DecisionRow,
  choice: Exclude<Choice, { choose: 'later' }>,
  person: string,
  now: Date,
): Promise<DecideOutcome> {
  switch (choice.choose) {
    case 'value':
      return decision.kind === 'held' ? settle(db, knot, decision, choice, person, now) : wrongChoice(decision);
    case 'record':
      return decision.kind === 'duplicate'
        ? chooseRecord(db, knot, decision, choice.key, person, now)
        : wrongChoice(decision);
    case 'same':
      return decision.kind === 'unsure match'
        ? saySame(db, knot, decision, choice.candidate, person, now)
        : wrongChoice(decision);
    case 'different':
      return decision.kind === 'unsure match' || decision.kind === 'duplicate'
        ? sayDifferent(db, knot, decision, person, now)
        : wrongChoice(decision);
    case 'keep others':
    case 'archive others':
    case 'delete others':
      return decision.kind === 'deleted elsewhere'
        ? sayWhatFollows(db, knot, decision, choice.choose, now)
        : wrongChoice(decision);
    case 'corrected':
      return wrongChoice(decision);
    case 'try again':
      return tryAgain(db, knot, decision, now);
    case 'seen':
      return seenKinds.has(decision.kind) ? { kind: 'decided' } : wrongChoice(decision);
    default:
      throw new Error(`unknown choice ${JSON.stringify(choice satisfies never)}`);
  }
}

/** Of these nothing else is to be done here. */
const seenKinds: ReadonlySet<DecisionKind> = new Set(['unusable', 'fields changed', 'unusually quiet']);

function wrongChoice({ kind }: DecisionRow): DecideOutcome {
  return { kind: 'not a choice', says: `this cannot be chosen for a decision of the kind “${kind}”` };
}

async function settle(
  db: SqlConnection,
  knot: LoadedKnot,
  decision: DecisionRow,
  choice: Extract<Choice, { choose: 'value' }>,
  person: string,
  now: Date,
): Promise<DecideOutcome> {
  const id = anchorId(decision.anchor_id as string);
  const loaded = await lockAnchor(db, id);
  if (!loaded) return { kind: 'not found' };
  const field = decision.field as string;
  const bound = await bindReferences(referenceSource(db), knot.compiled, [loaded]);
  const settled = settleHeld(bound, loaded.anchor, {
    field,
    fingerprint: choice.fingerprint,
    // A thing is shown with its name; what is agreed is which one it is.
    value: (thingOf(choice.value)?.$thing ?? choice.value) as Shared,
    person,
    at: now.getTime(),
  });
  if (!settled.ok && settled.reason === 'not a choice')
    return { kind: 'not a choice', says: 'choose one of the values shown' };
  if (!settled.ok && settled.reason === 'circle')
    return { kind: 'not a choice', says: 'it would stand under itself: choose another, or move the other one first' };
  if (!settled.ok) return { kind: 'changed meanwhile' };
  await storeAnchor(db, knot.id, loaded.anchor, openSave(knot.compiled, settled.anchor), now.getTime());
  const agreed = settled.anchor.agreed[field];
  await noteChoice(db, knot, id, field, agreed, now);
  return { kind: 'decided' };
}

/** One of several duplicates is kept the same; the others are set aside until that changes. */
async function chooseRecord(
  db: SqlConnection,
  knot: LoadedKnot,
  decision: DecisionRowOf<'duplicate'>,
  chosen: string,
  person: string,
  now: Date,
): Promise<DecideOutcome> {
  const member = decision.member as string;
  const { tiedKey } = decision.detail;
  const all = [...keysOf(decision), ...(tiedKey === null ? [] : [tiedKey])];
  if (!all.includes(chosen)) return { kind: 'not a choice', says: 'choose one of the records shown' };
  if (tiedKey !== null && chosen !== tiedKey) {
    const loaded = await lockAnchor(db, anchorId(decision.anchor_id as string));
    const tie = loaded?.anchor.ties.find((tie) => tie.member === member);
    if (!loaded || tie?.key !== recordKey(tiedKey)) return { kind: 'changed meanwhile' };
    const { anchor } = loaded;
    const rest = { ...anchor, ties: anchor.ties.filter((one) => one !== tie) };
    await storeAnchor(db, knot.id, anchor, openSave(knot.compiled, rest), now.getTime());
    const reading: Reading = { fields: expectedFields(tie), version: tie.version };
    await putOutside(db, knot.id, { member, key: tie.key, reading });
    // The one that was chosen belongs where the other one was, whatever keys and evidence say.
    const others = rest.ties.filter(({ gone }) => !gone);
    await saveVerdicts(db, knot.id, verdictsBetween([{ member, key: recordKey(chosen) }], others, true), {
      person,
      at: now,
      decision: decision.id,
    });
  }
  const others = all.filter((key) => key !== chosen).map(recordKey);
  await setAside(db, knot.id, member, others, { person, at: now });
  return { kind: 'decided' };
}

/** The records of each candidate, as they are tied now. */
async function candidatesOf(
  db: SqlConnection,
  knot: string,
  decision: DecisionRow,
): Promise<readonly (readonly RecordName[])[]> {
  const candidates = decision.kind === 'unsure match' ? decision.detail.candidates : [];
  const anchors = candidates.flatMap(({ anchor }) => (anchor === null ? [] : [anchorId(anchor)]));
  const ties = await recordsOf(db, knot, anchors);
  return candidates.map(({ anchor, records }): readonly RecordName[] =>
    anchor === null
      ? records.map(({ member, key }) => ({ member, key: recordKey(key) }))
      : (ties.get(anchorId(anchor)) ?? []),
  );
}

async function saySame(
  db: SqlConnection,
  knot: LoadedKnot,
  decision: DecisionRow,
  chosen: number,
  person: string,
  now: Date,
): Promise<DecideOutcome> {
  const record: RecordName = { member: decision.member as string, key: recordKey(decision.record_key as string) };
  const candidate = (await candidatesOf(db, knot.id, decision))[chosen];
  if (!candidate) return { kind: 'not a choice', says: 'choose one of those shown' };
  if (candidate.length === 0) return { kind: 'changed meanwhile' };
  const there = candidate.find(({ member }) => member === record.member);
  if (there) return { kind: 'not a choice', says: `that one has record ${there.key} of this system already` };
  await saveVerdicts(db, knot.id, verdictsBetween([record], candidate, true), {
    person,
    at: now,
    decision: decision.id,
  });
  return { kind: 'decided' };
}

/**
 * None of the candidates is the same thing; or none of the duplicates is the same as another one, and only the one that
 * is tied belongs to the anchor.
 */
async function sayDifferent(
  db: SqlConnection,
  knot: LoadedKnot,
  decision: DecisionRow,
  person: string,
  now: Date,
): Promise<DecideOutcome> {
  const member = decision.member as string;
  const records = keysOf(decision).map((key): RecordName => ({ member, key: recordKey(key) }));
  const others = (await candidatesOf(db, knot.id, decision)).flat();
  if (decision.kind === 'duplicate' && decision.anchor_id !== null)
    for (const { member: of, key } of (await lockAnchor(db, anchorId(decision.anchor_id)))?.anchor.ties ?? [])
      others.push({ member: of, key });
  const among = decision.kind === 'duplicate' ? verdictsBetween(records, records, false) : [];
  await saveVerdicts(db, knot.id, [...verdictsBetween(records, others, false), ...among], {
    person,
    at: now,
    decision: decision.id,
  });
  return { kind: 'decided' };
}

/** Whether the anchor alone was changed, so that putting it back undoes all of it. */
function isTakenBackWhole({ kind }: DecisionRow, { choose }: Choice): boolean {
  if (choose === 'try again') return kind === 'refused';
  return choose === 'value' || choose === 'keep others' || choose === 'archive others' || choose === 'delete others';
}

/** An anchor as it was, to be put back as long as nothing else has changed it. */
async function wayBack(db: SqlConnection, anchor: Anchor): Promise<AnchorBefore | undefined> {
  const after = await lockAnchor(db, anchor.id);
  return (
    after && {
      anchor: {
        id: anchor.id,
        agreed: agreedToColumn(anchor.agreed),
        began_in: anchor.beganIn,
        parked_creates: anchor.parkedCreates,
        parted: anchor.parted ?? null,
        revision: 0,
      },
      ties: anchor.ties.map((tie) => tieToRow(anchor.id, tie)),
      revisionAfter: after.revision,
    }
  );
}

/** @returns false where something else has changed the anchor since */
async function putBack(db: SqlConnection, knot: LoadedKnot, before: AnchorBefore, now: Date): Promise<boolean> {
  const anchor = anchorFromRows(before.anchor, before.ties);
  const present = await lockAnchor(db, anchor.id);
  if (present?.revision !== before.revisionAfter) return false;
  await storeAnchor(db, knot.id, present.anchor, openSave(knot.compiled, anchor), now.getTime());
  return true;
}

/**
 * Takes a decision back, as long as no run has acted on it.
 * @returns why it cannot be taken back, where that is so
 */
export async function undoDecision(
  data: SqlDatabase,
  knot: LoadedKnot,
  decisionId: string,
  person: string,
  now: Date,
): Promise<DecideOutcome> {
  return data.transaction(async (db) => {
    const decision = await lockDecision(db, knot.id, decisionId);
    if (!decision) return { kind: 'not found' };
    if (decision.closed_at === null) {
      await putOff(db, decision.id, undefined);
      await putOffUntil(db, [decision.id], undefined);
      return { kind: 'decided' };
    }
    const { choice } = decision;
    const tiedKey = decision.kind === 'duplicate' ? decision.detail.tiedKey : null;
    const isOfMatch =
      choice?.choose === 'same' ||
      choice?.choose === 'different' ||
      (choice?.choose === 'record' && (tiedKey === null || tiedKey === choice.key));
    if (choice?.choose === 'seen') return reopened(db, decision, person);
    if (!isOfMatch && !decision.undo) return { kind: 'not a choice', says: 'this decision cannot be taken back here' };
    if (await hasRunSince(db, knot.id, decision.closed_at))
      return {
        kind: 'not a choice',
        says: 'a run has begun since then: untie or tie the record on its anchor’s page, or take the verdict back',
      };
    if (decision.undo) {
      if (!(await putBack(db, knot, decision.undo, now)))
        return { kind: 'not a choice', says: 'the thing was changed since then: what was decided stands' };
      if (choice?.choose === 'value')
        await forgetChoice(db, decision.undo.anchor.id, decision.field, decision.closed_at);
    } else {
      await dropVerdictsOf(db, decision.id);
      const keys = keysOf(decision).map(recordKey);
      if (decision.member !== null) await setAside(db, knot.id, decision.member, keys, undefined);
    }
    return reopened(db, decision, person);
  });
}

async function reopened(db: SqlConnection, { id, kind }: DecisionRow, person: string): Promise<DecideOutcome> {
  if (!(await reopenDecision(db, id))) return { kind: 'changed meanwhile' };
  await noteAct(db, person, 'decision taken back', { decision: id, kind });
  return { kind: 'decided' };
}

/** What becomes of the other records of a thing that was deleted in one system. */
async function sayWhatFollows(
  db: SqlConnection,
  knot: LoadedKnot,
  decision: DecisionRowOf<'deleted elsewhere'>,
  follows: 'keep others' | 'archive others' | 'delete others',
  now: Date,
): Promise<DecideOutcome> {
  const { others } = decision.detail;
  const may = follows === 'archive others' ? 'archive' : 'delete';
  if (follows !== 'keep others' && !others.some((other) => other[may]))
    return { kind: 'not a choice', says: `the knot may ${may} none of these records` };
  let isGone = false;
  const settle = ({ anchor }: StoredAnchor) => {
    const ties = anchor.ties.map((tie) => {
      if (tie.member !== decision.member || !tie.gone) return tie;
      isGone = true;
      return { ...tie, end: follows };
    });
    return openSave(knot.compiled, { ...anchor, ties });
  };
  await changeAnchors(db, knot.id, [anchorId(decision.anchor_id as string)], settle, now.getTime());
  return isGone ? { kind: 'decided' } : { kind: 'changed meanwhile' };
}

async function tryAgain(db: SqlConnection, knot: LoadedKnot, decision: DecisionRow, now: Date): Promise<DecideOutcome> {
  const { member } = decision;
  if (decision.kind === 'unclear write') await closeIntents(db, [decision.detail.intent]);
  else if (decision.kind !== 'refused') return wrongChoice(decision);
  const unpark = ({ anchor }: StoredAnchor) => {
    const { [member as string]: _, ...parkedCreates } = anchor.parkedCreates;
    const ties = anchor.ties.map((tie) => (tie.member === member ? tryingAgain(tie) : tie));
    return openSave(knot.compiled, { ...anchor, parkedCreates, ties });
  };
  await changeAnchors(db, knot.id, [anchorId(decision.anchor_id as string)], unpark, now.getTime());
  return { kind: 'decided' };
}

/** What was refused is forgotten: a write, and what the record was to be told. */
function tryingAgain({ parked: _, outcomes, ...tie }: Tie): Tie {
  if (!outcomes) return tie;
  const accounts = Object.entries(outcomes).map(([of, account]): [MemberId, OutcomeAccount] => [
    of,
    account.told?.refused === undefined ? account : { isDue: true },
  ]);
  return { ...tie, outcomes: Object.fromEntries(accounts) };
}

function keysOf(decision: DecisionRow): string[] {
  if (decision.kind === 'duplicate') return decision.detail.keys;
  return decision.record_key === null ? [] : [decision.record_key];
}
