import type { DataSource, EntityManager } from 'typeorm';
import { type AnchorId, type RecordKey, recordKey } from '@anchor-knot/core';
import { type DecisionDraft, decisionIdentity, type OutsideRecord } from '../../orchestration/store.js';
import { fromJsonColumn, jsonColumn } from './jsonColumn.js';

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
  db: EntityManager,
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

export async function outsideRecords(data: DataSource, knot: string): Promise<readonly OutsideRecord[]> {
  const rows = (await data.query('select member, record_key, reading, verdict from outside_record where knot_id = $1', [
    knot,
  ])) as {
    member: string;
    record_key: string;
    reading: OutsideRecord['reading'];
    verdict: OutsideRecord['verdict'] | null;
  }[];
  return rows.map(({ member, record_key, reading, verdict }) => ({
    member,
    key: recordKey(record_key),
    reading,
    ...(verdict ? { verdict } : {}),
  }));
}

/** Replaces the records outside of anchors. A verdict that a person gave while the run was on is kept. */
export async function replaceOutsideRecords(
  db: EntityManager,
  knot: string,
  records: readonly OutsideRecord[],
): Promise<void> {
  const given = (await db.query(
    'select member, record_key, verdict, set_aside_by, set_aside_at from outside_record where knot_id = $1 for update',
    [knot],
  )) as {
    member: string;
    record_key: RecordKey;
    verdict: string | null;
    set_aside_by: string | null;
    set_aside_at: Date | null;
  }[];
  const asides = new Map(given.map((row) => [JSON.stringify([row.member, row.record_key]), row]));
  const asideOf = ({ member, key }: OutsideRecord) => asides.get(JSON.stringify([member, key]));
  await db.query('delete from outside_record where knot_id = $1', [knot]);
  await db.query(
    `insert into outside_record (knot_id, member, record_key, verdict, reading, set_aside_by, set_aside_at)
     select $1, member, key, verdict, reading::jsonb, person, at
     from unnest($2::text[], $3::text[], $4::text[], ${fromJsonColumn('$5')}, $6::text[],
       $7::timestamptz[]) as r(member, key, verdict, reading, person, at)`,
    [
      knot,
      records.map(({ member }) => member),
      records.map(({ key }) => key),
      // What was taken back while the run was on stays taken back.
      records.map((record) => {
        const known = asideOf(record);
        return known ? known.verdict : (record.verdict ?? null);
      }),
      jsonColumn(records.map(({ reading }) => reading)),
      records.map((record) => asideOf(record)?.set_aside_by ?? null),
      records.map((record) => asideOf(record)?.set_aside_at ?? null),
    ],
  );
}
