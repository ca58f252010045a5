import type { ObjectProfile, ObjectSummary, ObjectView, ProfileState } from '@anchor-knot/contracts';
import type { ObjectProfile as MeasuredProfile, SourceSchema } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';

/** What is in the objects of systems: schemas as they were seen over time, profiles, and what people said of them. */

export interface ProfileRow {
  readonly object: string;
  readonly state: ProfileState['state'];
  readonly records: string;
  readonly started_at: Date;
  readonly ended_at: Date | null;
  readonly words: string | null;
}

export async function profilesOf(db: SqlConnection, system: string): Promise<readonly ProfileRow[]> {
  return (await db.query(
    'select object, state, records, started_at, ended_at, words from object_profile where system_id = $1',
    [system],
  )) as ProfileRow[];
}

export async function findProfile(
  db: SqlConnection,
  system: string,
  object: string,
): Promise<ObjectProfile | undefined> {
  const [row] = (await db.query('select profile from object_profile where system_id = $1 and object = $2', [
    system,
    object,
  ])) as { profile: ObjectProfile | null }[];
  return row?.profile ?? undefined;
}

/** Marks an object as about to be profiled; the profile before stays until the new one is there. */
export async function awaitProfile(db: SqlConnection, system: string, object: string): Promise<void> {
  await db.query(
    `insert into object_profile (system_id, object, state, started_at) values ($1, $2, 'waiting', now())
     on conflict (system_id, object) do update set state = 'waiting', records = 0, started_at = now(),
       ended_at = null, words = null`,
    [system, object],
  );
}

export async function noteProfiling(db: SqlConnection, system: string, object: string, records: number): Promise<void> {
  await db.query(`update object_profile set state = 'reading', records = $3 where system_id = $1 and object = $2`, [
    system,
    object,
    records,
  ]);
}

export async function keepProfile(
  db: SqlConnection,
  system: string,
  object: string,
  profile: MeasuredProfile & { readonly isPart: boolean },
): Promise<void> {
  await db.query(
    `update object_profile set state = 'done', records = $3, ended_at = now(), profile = $4
     where system_id = $1 and object = $2`,
    [system, object, profile.records, JSON.stringify(profile)],
  );
}

export async function failProfile(db: SqlConnection, system: string, object: string, words: string): Promise<void> {
  await db.query(
    `update object_profile set state = 'failed', ended_at = now(), words = $3 where system_id = $1 and object = $2`,
    [system, object, words],
  );
}

/** What the system said of the object's fields when it was last asked; `undefined` where it was never asked. */
export async function declaredFields(
  db: SqlConnection,
  system: string,
  object: string,
): Promise<SourceSchema | undefined> {
  const [row] = (await db.query('select declared from object_profile where system_id = $1 and object = $2', [
    system,
    object,
  ])) as { declared: SourceSchema | null }[];
  return row?.declared ?? undefined;
}

export async function keepDeclared(
  db: SqlConnection,
  system: string,
  object: string,
  declared: SourceSchema | undefined,
): Promise<void> {
  await db.query('update object_profile set declared = $3, asked_at = now() where system_id = $1 and object = $2', [
    system,
    object,
    declared ? JSON.stringify(declared) : null,
  ]);
}

/**
 * The profiled objects of which knots in force have members, and which were not asked for so long. They count as asked:
 * nobody else asks them again.
 */
export async function takeUnasked(
  db: SqlConnection,
  minutes: number,
): Promise<readonly { readonly system: string; readonly object: string }[]> {
  const [rows] = (await db.query(
    `update object_profile p set asked_at = now()
     where p.state = 'done' and (p.asked_at is null or p.asked_at < now() - make_interval(mins => $1))
       and exists (
         select 1 from knot k join knot_version v on v.knot_id = k.id and v.version = k.version_in_force,
           jsonb_array_elements(v.definition::jsonb -> 'members') m(member)
         where k.state <> 'ended' and m.member ->> 'system' = p.system_id and m.member ->> 'object' = p.object
       )
     returning system_id as system, object`,
    [minutes],
  )) as [{ system: string; object: string }[], number];
  return rows;
}

export interface SchemaSummary {
  readonly object: string;
  readonly version: number;
  readonly seen_at: Date;
  readonly fields: number;
  /** Whether a field of it is a moment. */
  readonly timed: boolean;
}

/** The latest schema of each object of a system, in numbers. */
export async function latestSchemas(db: SqlConnection, system: string): Promise<readonly SchemaSummary[]> {
  return (await db.query(
    `select distinct on (object) object, version, seen_at, jsonb_array_length(schema->'fields') as fields,
       jsonb_path_exists(schema, '$.fields[*] ? (@.type == "instant")') as timed
     from object_schema where system_id = $1 order by object, version desc`,
    [system],
  )) as SchemaSummary[];
}

export interface SchemaVersion {
  readonly version: number;
  readonly seen_at: Date;
  readonly schema: NonNullable<ObjectView['schema']>;
  readonly changes: ObjectView['history'][number]['changes'];
}

/** The last schemas of an object, newest first. */
export async function schemaVersions(
  db: SqlConnection,
  system: string,
  object: string,
  limit: number,
): Promise<readonly SchemaVersion[]> {
  return (await db.query(
    `select version, seen_at, schema, changes from object_schema where system_id = $1 and object = $2
     order by version desc limit $3`,
    [system, object, limit],
  )) as SchemaVersion[];
}

/** What was taken from some records alone is no version to compare with. */
export async function dropSchema(db: SqlConnection, system: string, object: string, version: number): Promise<void> {
  await db.query('delete from object_schema where system_id = $1 and object = $2 and version = $3', [
    system,
    object,
    version,
  ]);
}

export async function addSchema(
  db: SqlConnection,
  system: string,
  object: string,
  { version, schema, changes }: { readonly version: number; readonly schema: SourceSchema; readonly changes: unknown },
): Promise<void> {
  await db.query(
    `insert into object_schema (system_id, object, version, seen_at, schema, changes) values ($1, $2, $3, now(), $4, $5)
     on conflict do nothing`,
    [system, object, version, JSON.stringify(schema), JSON.stringify(changes)],
  );
}

/** What people said that objects of a system hold. */
export async function naturesOf(
  db: SqlConnection,
  system: string,
): Promise<ReadonlyMap<string, ObjectSummary['holds']>> {
  const rows = (await db.query('select object, holds from object_nature where system_id = $1', [system])) as {
    object: string;
    holds: ObjectSummary['holds'];
  }[];
  return new Map(rows.map(({ object, holds }) => [object, holds]));
}

export async function keepNature(
  db: SqlConnection,
  system: string,
  object: string,
  holds: ObjectSummary['holds'],
): Promise<void> {
  await db.query(
    `insert into object_nature (system_id, object, holds) values ($1, $2, $3)
     on conflict (system_id, object) do update set holds = excluded.holds`,
    [system, object, holds],
  );
}
