import type { Choice } from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';
import type { AnchorId } from '@anchor-knot/core';
import { type DecisionDraft, decisionIdentity } from '../../orchestration/store.js';

/**
 * Which open decisions a list of drafts stands for: those of these anchors themselves, of the records outside of
 * anchors, or of the run.
 */
export type DecisionScope =
  | { readonly of: 'anchors'; readonly anchors: readonly AnchorId[] }
  | { readonly of: 'outside' }
  | { readonly of: 'run' };

const outsideScope = `(kind in ('duplicate', 'unsure match') or (kind = 'rejected' and anchor_id is null))`;
const conditions = {
  anchors: `anchor_id = any($4::uuid[]) and kind not in ('duplicate', 'unsure match', 'guard')`,
  outside: `$4::uuid[] is null and ${outsideScope}`,
  run: `$4::uuid[] is null and kind = 'guard'`,
};

/**
 * Open decisions of a scope become exactly the drafts: new ones open, known ones are brought up to date, the rest
 * closes by itself.
 */
export async function replaceDecisions(
  db: SqlConnection,
  knot: string,
  scope: DecisionScope,
  drafts: readonly DecisionDraft[],
  at: number,
): Promise<void> {
  const identities = drafts.map(decisionIdentity);
  await db.query(
    `update decision set closed_at = $2, closed_by = null where knot_id = $1 and closed_at is null
      and not identity = any($3::text[]) and ${conditions[scope.of]}`,
    [knot, new Date(at), identities, scope.of === 'anchors' ? scope.anchors : null],
  );
  if (drafts.length === 0) return;
  await db.query(
    `insert into decision (knot_id, identity, kind, anchor_id, member, record_key, field, says, detail, fingerprint,
      opened_at)
     select distinct on (identity) $1, identity, kind, anchor, member, key, field, says, detail, fingerprint,
       $3::timestamptz
     from jsonb_to_recordset($2::jsonb) as r(identity text, kind text, anchor uuid, member text, key text, field text,
       says text, detail jsonb, fingerprint text)
     on conflict (knot_id, identity) where closed_at is null do update set says = excluded.says,
       detail = excluded.detail, fingerprint = excluded.fingerprint`,
    [knot, JSON.stringify(drafts.map((draft, index) => ({ ...draft, identity: identities[index] }))), new Date(at)],
  );
}

/** A decision as those see it who take it. */
export interface DecisionRow {
  readonly id: string;
  readonly kind: string;
  readonly anchor_id: string | null;
  readonly member: string | null;
  readonly record_key: string | null;
  readonly field: string | null;
  readonly detail: Record<string, never>;
  readonly fingerprint: string;
  readonly closed_at: Date | null;
  readonly choice: Choice | null;
}

/** A decision of a knot, open or closed; it is locked until the end of the transaction. */
export async function lockDecision(db: SqlConnection, knot: string, id: string): Promise<DecisionRow | undefined> {
  const [row] = (await db.query(
    `select id, kind, anchor_id, member, record_key, field, detail, fingerprint, closed_at, choice from decision
     where id = $1 and knot_id = $2 for update`,
    [id, knot],
  )) as DecisionRow[];
  return row;
}

/** What a decision on a match is about. */
export interface MatchDecisionRow {
  readonly member: string;
  readonly record_key: string | null;
  readonly anchor_id: string | null;
  readonly detail: never;
}

export async function findMatchDecision(
  db: SqlConnection,
  knot: string,
  id: string | number,
): Promise<MatchDecisionRow | undefined> {
  const [row] = (await db.query(
    `select member, record_key, anchor_id, detail from decision where id = $1 and knot_id = $2
       and kind in ('duplicate', 'unsure match')`,
    [id, knot],
  )) as MatchDecisionRow[];
  return row;
}

/** A person looks at it later; or, where no time is given, now after all. */
export async function putOff(db: SqlConnection, id: string, at: Date | undefined): Promise<void> {
  await db.query('update decision set put_off_at = $2 where id = $1', [id, at ?? null]);
}

export async function closeDecision(
  db: SqlConnection,
  id: string,
  choice: Choice,
  person: string,
  at: Date,
): Promise<void> {
  await db.query('update decision set closed_at = $2, closed_by = $3, choice = $4 where id = $1', [
    id,
    at,
    person,
    JSON.stringify(choice),
  ]);
}

/** @returns false where the same is asked again meanwhile */
export async function reopenDecision(db: SqlConnection, id: string): Promise<boolean> {
  const [again] = (await db.query(
    `update decision set closed_at = null, closed_by = null, choice = null where id = $1
     and not exists (select from decision o where o.knot_id = decision.knot_id and o.identity = decision.identity
       and o.closed_at is null) returning id`,
    [id],
  )) as [{ id: string }[], number];
  return again.length > 0;
}

/** An anchor that becomes part of another one has nothing to decide any more. */
export async function closeDecisionsOf(db: SqlConnection, anchor: string, person: string, at: Date): Promise<void> {
  await db.query('update decision set closed_at = $2, closed_by = $3 where anchor_id = $1 and closed_at is null', [
    anchor,
    at,
    person,
  ]);
}
