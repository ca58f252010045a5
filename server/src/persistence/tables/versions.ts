import { changedMappings, type Knot } from '@anchor-knot/core';
import { forgetSeenFields } from '../../anchors/door.js';
import type { SqlConnection } from '../sql.js';

/** Versions of knots, and which of them is in force. */

export interface KnotStanding {
  readonly version: number;
  /** A version that is put in force when the run that is under way has ended. */
  readonly coming: number | undefined;
}

/** How a knot stands; its row is locked until the end of the transaction. */
export async function lockKnot(db: SqlConnection, knot: string): Promise<KnotStanding | undefined> {
  const [row] = (await db.query('select version_in_force, coming_version from knot where id = $1 for update', [
    knot,
  ])) as { version_in_force: number; coming_version: number | null }[];
  return row && { version: row.version_in_force, coming: row.coming_version ?? undefined };
}

export async function definitionOf(db: SqlConnection, knot: string, version: number): Promise<Knot | undefined> {
  const [row] = (await db.query('select definition from knot_version where knot_id = $1 and version = $2', [
    knot,
    version,
  ])) as { definition: Knot }[];
  return row?.definition;
}

export async function keepVersion(
  db: SqlConnection,
  {
    knot,
    version,
    definition,
    note,
    person,
  }: {
    readonly knot: string;
    readonly version: number;
    readonly definition: Knot;
    readonly note: string;
    readonly person: string;
  },
): Promise<void> {
  await db.query('insert into knot_version (knot_id, version, definition, note, made_by) values ($1, $2, $3, $4, $5)', [
    knot,
    version,
    JSON.stringify(definition),
    note,
    person,
  ]);
}

export interface StateRow {
  readonly state: 'running' | 'paused' | 'ended';
  readonly state_by: string | null;
  readonly state_at: Date | null;
  readonly resume_at: Date | null;
  /** It was paused with all others, and is taken up with them. */
  readonly paused_together: boolean;
}

/** Whether each knot runs, by id. */
export async function knotStates(db: SqlConnection): Promise<ReadonlyMap<string, StateRow>> {
  const rows = (await db.query(
    'select id, state, state_by, state_at, resume_at, paused_together from knot',
  )) as (StateRow & {
    id: string;
  })[];
  return new Map(rows.map(({ id, ...row }) => [id, row]));
}

/** @returns whether there is such a knot */
export async function setKnotState(
  db: SqlConnection,
  knot: string,
  state: StateRow['state'],
  person: string,
  at: Date,
  resumeAt?: Date,
): Promise<boolean> {
  const [rows] = (await db.query(
    `update knot set state = $2, state_by = $3, state_at = $4, resume_at = $5,
       paused_together = false
     where id = $1 and version_in_force > 0 returning id`,
    [knot, state, person, at, resumeAt ?? null],
  )) as [unknown[], number];
  return rows.length > 0;
}

/** Pauses all knots that run, or takes up those that were paused so. @returns how many */
export async function setAllStates(
  db: SqlConnection,
  state: 'running' | 'paused',
  person: string,
  at: Date,
): Promise<number> {
  const [rows] = (await db.query(
    `update knot set state = $1, state_by = $2, state_at = $3, resume_at = null, paused_together = $1 = 'paused'
     where version_in_force > 0 and case when $1 = 'paused' then state = 'running' else paused_together end
     returning id`,
    [state, person, at],
  )) as [unknown[], number];
  return rows.length;
}

/** Whether a run of the knot is under way. */
export async function isRunning(db: SqlConnection, knot: string): Promise<boolean> {
  const rows = (await db.query('select 1 from run where knot_id = $1 and ended_at is null and lease_until > now()', [
    knot,
  ])) as unknown[];
  return rows.length > 0;
}

export async function awaitVersion(db: SqlConnection, knot: string, version: number): Promise<void> {
  await db.query('update knot set coming_version = $2 where id = $1', [knot, version]);
}

/**
 * Puts a version in force while no run is under way. What was seen through mappings that read another field now is
 * forgotten, so that nothing looks edited.
 */
export async function applyVersion(db: SqlConnection, knot: string, version: number): Promise<void> {
  const standing = await lockKnot(db, knot);
  const before = standing && (await definitionOf(db, knot, standing.version));
  const after = await definitionOf(db, knot, version);
  if (!after) throw new Error(`there is no version ${version} of knot ${knot}`);
  if (before) await forgetSeenFields(db, knot, changedMappings(before, after));
  // Everything is read anew under a new version, and then there are new ones.
  await db.query('delete from unique_value where knot_id = $1', [knot]);
  await db.query('update knot set version_in_force = $2, name = $3, coming_version = null where id = $1', [
    knot,
    version,
    after.name,
  ]);
}

/** At the end of a run: the version that has waited for it. */
export async function applyComingVersion(db: SqlConnection, knot: string): Promise<void> {
  const { coming } = (await lockKnot(db, knot)) ?? {};
  if (coming !== undefined) await applyVersion(db, knot, coming);
}
