import {
  type Choice,
  type DecisionDetail,
  decisionDetails,
  type DecisionKind,
  decisionKindNames,
  decisionKinds,
  type DecisionSubject,
} from '@anchor-knot/contracts';
import type { SqlConnection } from '../sql.js';
import type { AnchorId } from '@anchor-knot/core';
import { type DecisionDraft, decisionIdentity, type SourceReading } from '../../orchestration/decisionDraft.js';
import type { RecordRef } from '../../orchestration/stored.js';
import type { AnchorRow, TieRow } from '../rows.js';

/**
 * Which open decisions a list of drafts stands for: those of these anchors themselves, of the records outside of
 * anchors but for those that rest and took no part, or of the run.
 */
export type DecisionScope =
  | { readonly of: 'anchors'; readonly anchors: readonly AnchorId[] }
  | { readonly of: 'outside'; readonly records: readonly RecordRef[] }
  | { readonly of: 'run' };

const kindsAbout = (subject: DecisionSubject): string =>
  decisionKindNames.flatMap((kind) => (decisionKinds[kind].about === subject ? [`'${kind}'`] : [])).join(', ');
const conditions = {
  anchors: `anchor_id = any($4::uuid[]) and kind in (${kindsAbout('anchor')})`,
  outside: `(kind in (${kindsAbout('record')}) or (kind in (${kindsAbout('anchor')}) and anchor_id is null))
    and not exists (select from outside_record o where o.knot_id = decision.knot_id and o.member = decision.member
      and o.record_key = decision.record_key and o.reason <> 'untied' and o.verdict is null
      and not exists (select from unnest($4::text[], $5::text[]) as r(member, record_key)
        where r.member = o.member and r.record_key = o.record_key))`,
  run: `kind in (${kindsAbout('run')})`,
};

function parametersOf(scope: DecisionScope): unknown[] {
  switch (scope.of) {
    case 'anchors':
      return [scope.anchors];
    case 'outside':
      return [scope.records.map(({ member }) => member), scope.records.map(({ key }) => key)];
    case 'run':
      return [];
    default:
      throw new Error(`unknown scope ${JSON.stringify(scope satisfies never)}`);
  }
}

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
    [knot, new Date(at), identities, ...parametersOf(scope)],
  );
  await openDecisions(db, knot, drafts, at);
}

const sourceKinds = `'trouble', 'unusable'`;

/**
 * The open decisions about what was read of sources: those that may close by themselves do, unless they are among the
 * drafts.
 */
export async function replaceSourceDecisions(
  db: SqlConnection,
  knot: string,
  sources: readonly SourceReading[],
  drafts: readonly DecisionDraft[],
  at: number,
): Promise<void> {
  await db.query(
    `update decision set closed_at = $2, closed_by = null
     from jsonb_to_recordset($4::jsonb) as source(member text, "isWhole" boolean, files jsonb)
     where knot_id = $1 and closed_at is null and decision.member = source.member and not identity = any($3::text[])
       and (kind = 'trouble' or (kind = 'unusable' and (source."isWhole" or source.files ? (detail ->> 'file'))))`,
    [knot, new Date(at), drafts.map(decisionIdentity), JSON.stringify(sources)],
  );
  await openDecisions(db, knot, drafts, at);
}

/** Whether something waits of what a run says of itself, or of its sources: where not, there is nothing to close. */
export async function areAnyOpen(db: SqlConnection, knot: string, about: 'run' | 'sources'): Promise<boolean> {
  const kinds = about === 'run' ? kindsAbout('run') : sourceKinds;
  const [found] = (await db.query(
    `select exists (select from decision where knot_id = $1 and closed_at is null and kind in (${kinds})) as any_open`,
    [knot],
  )) as [{ any_open: boolean }];
  return found.any_open;
}

/** How often it was tried before somebody had it tried again: what fails for the same reason then is no new failure. */
const attemptsBefore = `coalesce((select d.attempts from decision d where d.knot_id = $1 and d.identity = r.identity
  and d.reason = r.reason and d.choice ->> 'choose' = 'try again' and d.closed_at > $3::timestamptz - interval '7 days'
  order by d.id desc limit 1), 0)`;

/** New ones open, known ones are brought up to date; of what somebody has seen as it is nobody is asked again. */
export async function openDecisions(
  db: SqlConnection,
  knot: string,
  drafts: readonly DecisionDraft[],
  at: number,
): Promise<void> {
  if (drafts.length === 0) return;
  const identities = drafts.map(decisionIdentity);
  await db.query(
    `insert into decision (knot_id, identity, kind, anchor_id, member, record_key, field, says, detail, fingerprint,
      reason, opened_at, attempts)
     select distinct on (identity) $1, identity, kind, anchor, member, key, field, says, detail, fingerprint, reason,
       $3::timestamptz, case when "wasTried" then 1 + ${attemptsBefore} else 0 end
     from jsonb_to_recordset($2::jsonb) as r(identity text, kind text, anchor uuid, member text, key text, field text,
       says text, detail jsonb, fingerprint text, reason text, "wasTried" boolean)
     where not exists (select from decision seen where seen.knot_id = $1 and seen.identity = r.identity
       and seen.fingerprint = r.fingerprint and seen.choice ->> 'choose' = 'seen')
     on conflict (knot_id, identity) where closed_at is null do update set says = excluded.says,
       detail = excluded.detail, fingerprint = excluded.fingerprint, reason = excluded.reason,
       attempts = case when decision.reason is distinct from excluded.reason then 0 else decision.attempts end
         + excluded.attempts`,
    [knot, JSON.stringify(drafts.map((draft, index) => ({ ...draft, identity: identities[index] }))), new Date(at)],
  );
}

/** Those about members that are quiet no longer close by themselves. */
export async function closeQuietDecisions(
  db: SqlConnection,
  quiet: readonly { readonly knot: string; readonly member: string }[],
  at: Date,
): Promise<void> {
  await db.query(
    `update decision set closed_at = $1, closed_by = null where kind = 'unusually quiet' and closed_at is null
       and not (knot_id, member) in (select * from unnest($2::text[], $3::text[]))`,
    [at, quiet.map(({ knot }) => knot), quiet.map(({ member }) => member)],
  );
}

/** How many that wait have opened since a moment, by kind. */
export async function newDecisions(
  db: SqlConnection,
  knot: string,
  since: number,
): Promise<ReadonlyMap<DecisionKind, number>> {
  const rows = (await db.query(
    `select kind, count(*)::int as count from decision
     where knot_id = $1 and closed_at is null and opened_at >= $2 group by kind`,
    [knot, new Date(since)],
  )) as { kind: DecisionKind; count: number }[];
  return new Map(rows.map(({ kind, count }) => [kind, count]));
}

interface DecisionRowCommon {
  readonly id: string;
  readonly anchor_id: string | null;
  readonly member: string | null;
  readonly record_key: string | null;
  readonly field: string | null;
  readonly fingerprint: string;
  readonly closed_at: Date | null;
  readonly choice: Choice | null;
  readonly undo: AnchorBefore | null;
}
/** An anchor before it was decided about, as its rows were, and its revision after that. */
export interface AnchorBefore {
  readonly anchor: AnchorRow;
  readonly ties: readonly TieRow[];
  readonly revisionAfter: number;
}
type RowOf<Kind extends DecisionKind> = DecisionRowCommon & {
  readonly kind: Kind;
  readonly detail: DecisionDetail<Kind>;
};

/** A decision as those see it who take it. */
export type DecisionRow = { [Kind in DecisionKind]: RowOf<Kind> }[DecisionKind];
export type DecisionRowOf<Kind extends DecisionKind> = Extract<DecisionRow, { readonly kind: Kind }>;

const columns = 'id, kind, anchor_id, member, record_key, field, detail, fingerprint, closed_at, choice, undo';

/** @throws {z.ZodError} where its details are not those of its kind */
function decisionFromRow(row: DecisionRowCommon & { kind: DecisionKind; detail: unknown }): DecisionRow {
  return { ...row, detail: decisionDetails[row.kind].parse(row.detail) } as DecisionRow;
}

/** A decision of a knot, open or closed; it is locked until the end of the transaction. */
export async function lockDecision(db: SqlConnection, knot: string, id: string): Promise<DecisionRow | undefined> {
  const [row] = (await db.query(`select ${columns} from decision where id = $1 and knot_id = $2 for update`, [
    id,
    knot,
  ])) as Parameters<typeof decisionFromRow>[0][];
  return row && decisionFromRow(row);
}

/** A decision of a knot, open or closed. */
export async function findDecision(
  db: SqlConnection,
  knot: string,
  id: string | number,
): Promise<DecisionRow | undefined> {
  const [row] = (await db.query(`select ${columns} from decision where id = $1 and knot_id = $2`, [
    id,
    knot,
  ])) as Parameters<typeof decisionFromRow>[0][];
  return row && decisionFromRow(row);
}

/** A decision on whether records are the same thing, open or closed. */
export async function findMatchDecision(
  db: SqlConnection,
  knot: string,
  id: string | number,
): Promise<DecisionRowOf<'duplicate' | 'unsure match'> | undefined> {
  const decision = await findDecision(db, knot, id);
  return decision?.kind === 'duplicate' || decision?.kind === 'unsure match' ? decision : undefined;
}

/** Decisions stand in no list until then; or, where no time is given, they wait again. @returns how many there were */
export async function putOffUntil(db: SqlConnection, ids: readonly string[], until: Date | undefined): Promise<number> {
  const [rows] = (await db.query(
    'update decision set put_off_until = $2 where id = any($1::bigint[]) and closed_at is null returning id',
    [ids, until ?? null],
  )) as [unknown[], number];
  return rows.length;
}

/** @param to email of a colleague; of nobody in particular when left out. @returns how many there were */
export async function giveTo(
  db: SqlConnection,
  ids: readonly string[],
  to: string | undefined,
  note: string,
): Promise<number> {
  const [rows] = (await db.query(
    `update decision set given_to = $2, given_note = $3 where id = any($1::bigint[]) and closed_at is null
     returning id`,
    [ids, to ?? null, note],
  )) as [unknown[], number];
  return rows.length;
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
  undo: AnchorBefore | undefined,
): Promise<void> {
  await db.query('update decision set closed_at = $2, closed_by = $3, choice = $4, undo = $5 where id = $1', [
    id,
    at,
    person,
    JSON.stringify(choice),
    undo === undefined ? null : JSON.stringify(undo),
  ]);
}

/** @returns false where the same is asked again meanwhile */
export async function reopenDecision(db: SqlConnection, id: string): Promise<boolean> {
  const [again] = (await db.query(
    `update decision set closed_at = null, closed_by = null, choice = null, undo = null where id = $1
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
