import type { DraftEvent } from '@anchor-knot/contracts';
import { draftChannel } from '../channels.js';
import type { SqlConnection } from '../sql.js';

/** Definitions that are being worked on, one for each knot. */

export interface DraftRow {
  readonly definition: unknown;
  readonly turned_down: unknown;
  readonly revision: number;
  readonly based_on: number;
  readonly changed_by: string;
  readonly changed_at: Date;
}

export interface ListedKnotRow {
  readonly id: string;
  readonly name: string;
  readonly version: number;
  /** Of its draft, where it has one. */
  readonly changed_by: string | null;
  readonly changed_at: Date | null;
}

/** All knots by name, as their drafts call them. */
export async function listKnots(db: SqlConnection): Promise<readonly ListedKnotRow[]> {
  return (await db.query(
    `select knot.id, coalesce(draft.definition->>'name', knot.name) as name, version_in_force as version, changed_by,
       changed_at
     from knot left join knot_draft draft on draft.knot_id = knot.id order by 2, 1`,
  )) as ListedKnotRow[];
}

export async function findDraft(db: SqlConnection, knot: string): Promise<DraftRow | undefined> {
  const [row] = (await db.query(
    'select definition, turned_down, revision, based_on, changed_by, changed_at from knot_draft where knot_id = $1',
    [knot],
  )) as DraftRow[];
  return row;
}

/** Makes a knot that is not in force. @returns whether the id was free */
export async function makeKnot(db: SqlConnection, id: string, name: string): Promise<boolean> {
  const made = (await db.query(
    'insert into knot (id, name, version_in_force) values ($1, $2, 0) on conflict do nothing returning id',
    [id, name],
  )) as unknown[];
  return made.length > 0;
}

export interface DraftSave {
  readonly knot: string;
  readonly definition: unknown;
  readonly turnedDown: unknown;
  readonly person: string;
}

/** Keeps a first draft of a knot. @returns its revision; `undefined` where the knot has one already */
export async function insertDraft(
  db: SqlConnection,
  { knot, definition, turnedDown, person }: DraftSave,
  basedOn: number,
): Promise<number | undefined> {
  const [row] = (await db.query(
    `insert into knot_draft (knot_id, definition, turned_down, revision, based_on, changed_by)
     values ($1, $2, $3, 1, $4, $5) on conflict (knot_id) do nothing returning revision`,
    [knot, JSON.stringify(definition), JSON.stringify(turnedDown), basedOn, person],
  )) as { revision: number }[];
  return row?.revision;
}

/** Keeps a draft over the revision that it was made from. @returns its revision; `undefined` where it is another now */
export async function updateDraft(
  db: SqlConnection,
  { knot, definition, turnedDown, person }: DraftSave,
  revision: number,
): Promise<number | undefined> {
  const [[row]] = (await db.query(
    `update knot_draft set definition = $2, turned_down = $3, revision = revision + 1, changed_by = $4,
       changed_at = now() where knot_id = $1 and revision = $5 returning revision`,
    [knot, JSON.stringify(definition), JSON.stringify(turnedDown), person, revision],
  )) as [{ revision: number }[], number];
  return row?.revision;
}

/** The revision of a knot's draft, where it has one; it is locked until the end of the transaction. */
export async function lockDraft(db: SqlConnection, knot: string): Promise<number | undefined> {
  const [draft] = (await db.query('select revision from knot_draft where knot_id = $1 for update', [knot])) as {
    revision: number;
  }[];
  return draft?.revision;
}

export async function dropDraft(db: SqlConnection, knot: string): Promise<void> {
  await db.query('delete from knot_draft where knot_id = $1', [knot]);
}

/** A knot that was never in force goes with its draft. */
export async function dropUnused(db: SqlConnection, knot: string): Promise<void> {
  await db.query('delete from knot where id = $1 and version_in_force = 0', [knot]);
}

/** Tells everybody who looks at a knot how its draft stands now; within a transaction when that is done. */
export async function tellOfDraft(db: SqlConnection, event: Omit<DraftEvent, 'kind'>): Promise<void> {
  await db.query('select pg_notify($1, $2)', [draftChannel, JSON.stringify({ kind: 'draft', ...event })]);
}
