import type { JournalKind } from '@anchor-knot/contracts';
import type { Agreed, AnchorId, FieldId, Raw } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';
import type { AnchorRange } from '../../orchestration/batch.js';
import type { RunLease } from '../../orchestration/lease.js';
import type { Intent, JournalRow, RecordRef } from '../../orchestration/stored.js';
import { greatestAnchor, leastAnchor } from '../rows.js';
import { noteAct } from './audit.js';
import { fromJsonColumn, jsonColumn } from './jsonColumn.js';
import { inParts } from './parts.js';

export async function writeJournal(
  db: SqlConnection,
  { knot, run }: RunLease,
  rows: readonly JournalRow[],
): Promise<void> {
  for (const part of inParts(rows)) await writeJournalPart(db, { knot, run }, part);
}

async function writeJournalPart(
  db: SqlConnection,
  { knot, run }: Pick<RunLease, 'knot' | 'run'>,
  rows: readonly JournalRow[],
): Promise<void> {
  await db.query(
    `insert into journal (knot_id, run_id, anchor_id, member, record_key, kind, field, before, after, meaning, cause,
      knot_version, at)
     select $1, $2, anchor, member, key, kind, field, before, after, meaning, cause, (select knot_version from run
       where id = $2), to_timestamp(at / 1000.0)
     from jsonb_to_recordset($3::jsonb) as r(anchor uuid, member text, key text, kind text, field text, before jsonb,
       after jsonb, meaning jsonb, cause jsonb, at double precision)`,
    [knot, run, JSON.stringify(rows)],
  );
}

export async function openIntents(
  data: SqlConnection,
  knot: string,
  { after, upTo }: AnchorRange = {},
): Promise<readonly Intent[]> {
  const rows = (await data.query(
    `select id, operation, stored_at, unclear from write_intent where knot_id = $1
       and (operation ->> 'anchor')::uuid > $2 and (operation ->> 'anchor')::uuid <= $3 order by stored_at, id`,
    [knot, after ?? leastAnchor, upTo ?? greatestAnchor],
  )) as {
    id: string;
    operation: Intent['operation'];
    stored_at: Date;
    unclear: boolean;
  }[];
  return rows.map(({ id, operation, stored_at, unclear }) => ({
    id,
    operation,
    storedAt: stored_at.getTime(),
    unclear,
  }));
}

export async function storeIntents(
  db: SqlConnection,
  { knot, run }: RunLease,
  intents: readonly Intent[],
  at: number,
): Promise<void> {
  for (const part of inParts(intents))
    await db.query(
      `insert into write_intent (id, knot_id, run_id, operation, stored_at) select id, $1, $2, operation::jsonb, $3
        from unnest($4::uuid[], ${fromJsonColumn('$5')}) as r(id, operation)`,
      [knot, run, new Date(at), part.map(({ id }) => id), jsonColumn(part.map(({ operation }) => operation))],
    );
}

export async function closeIntents(db: SqlConnection, intents: readonly string[]): Promise<void> {
  await db.query('delete from write_intent where id = any($1::uuid[])', [intents]);
}

export async function markUnclear(db: SqlConnection, intents: readonly string[]): Promise<void> {
  await db.query('update write_intent set unclear = true where id = any($1::uuid[])', [intents]);
}

/** A person's choice of what a field agrees on. */
export async function noteChoice(
  db: SqlConnection,
  knot: { readonly id: string; readonly version: number },
  anchor: AnchorId,
  field: FieldId,
  agreed: Agreed | undefined,
  at: Date,
): Promise<void> {
  await db.query(
    `insert into journal (knot_id, anchor_id, kind, field, meaning, cause, knot_version, at)
     values ($1, $2, 'chosen', $3, $4, $5, $6, $7)`,
    [knot.id, anchor, field, JSON.stringify(agreed?.value ?? null), JSON.stringify(agreed?.why), knot.version, at],
  );
}

/** A choice that was taken back before anything came of it. @param at when it was chosen */
export async function forgetChoice(db: SqlConnection, anchor: string, field: string | null, at: Date): Promise<void> {
  await db.query(`delete from journal where anchor_id = $1 and kind = 'chosen' and field = $2 and at = $3`, [
    anchor,
    field,
    at,
  ]);
}

/** A person corrected a record from here: what stood there, and what was written. */
export async function noteCorrection(
  db: SqlConnection,
  knot: { readonly id: string; readonly version: number },
  anchor: string | null,
  { member, key }: RecordRef,
  changes: readonly { readonly field: FieldId; readonly before: Raw | undefined; readonly after: Raw }[],
  person: string,
  at: Date,
): Promise<void> {
  if (anchor !== null)
    await db.query(
      `insert into journal (knot_id, anchor_id, member, record_key, kind, field, before, after, cause, knot_version, at)
       select $1, $2, $3, $4, 'update', c.field, c.before, c.after, $6, $7, $8
       from jsonb_to_recordset($5::jsonb) as c(field text, before jsonb, after jsonb)`,
      [
        knot.id,
        anchor,
        member,
        key,
        JSON.stringify(changes),
        JSON.stringify({ kind: 'person', name: person, over: [] }),
        knot.version,
        at,
      ],
    );
  await noteAct(db, person, 'corrected', { knot: knot.id, member, key, fields: changes.map(({ field }) => field) });
}

/** A record that a person tied to an anchor, or took from it: told in the thing's history and in the audit. */
export async function noteTie(
  db: SqlConnection,
  knot: { readonly id: string; readonly version: number },
  anchor: string,
  { member, key }: RecordRef,
  kind: 'tied' | 'untied',
  person: string,
  at: Date,
): Promise<void> {
  await db.query(
    `insert into journal (knot_id, anchor_id, member, record_key, kind, cause, knot_version, at)
     values ($1, $2, $3, $4, $5, $6, $7, $8)`,
    [knot.id, anchor, member, key, kind, JSON.stringify({ kind: 'person', name: person, over: [] }), knot.version, at],
  );
  await noteAct(db, person, kind, { knot: knot.id, anchor, member, key });
}

/** What happened to an anchor happened to the one that it is part of now. */
export async function moveHistory(db: SqlConnection, from: string, to: string): Promise<void> {
  await db.query('update journal set anchor_id = $2 where anchor_id = $1', [from, to]);
}

export interface JournalViewRow {
  readonly id: string;
  readonly run_id: string | null;
  readonly member: string | null;
  readonly record_key: string | null;
  readonly kind: JournalKind;
  readonly field: string | null;
  readonly before: unknown;
  readonly after: unknown;
  readonly meaning: unknown;
  readonly cause: unknown;
  readonly at: Date;
}

/** What happened to an anchor, the last first. */
export async function historyOf(db: SqlConnection, anchor: string, limit: number): Promise<readonly JournalViewRow[]> {
  return (await db.query(
    `select id, run_id, member, record_key, kind, field, before, after, meaning, cause, at from journal
     where anchor_id = $1 order by id desc limit $2`,
    [anchor, limit],
  )) as JournalViewRow[];
}
