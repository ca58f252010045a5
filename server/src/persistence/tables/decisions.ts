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
