import { type DataSource, MoreThan } from 'typeorm';
import type { SqlConnection } from '../sql.js';
import type { Knot } from '@anchor-knot/core';
import { KnotEntity, KnotVersionEntity, type KnotVersionRow } from '../entities/entities.js';

/** Ids of the knots that a version is in force of, by name. */
export async function knotsInForce(data: DataSource): Promise<string[]> {
  const rows = await data
    .getRepository(KnotEntity)
    .find({ where: { versionInForce: MoreThan(0) }, order: { name: 'asc' } });
  return rows.map(({ id }) => id);
}

/** The version of a knot that is in force; `undefined` where there is no such knot or none is. */
export async function versionInForce(data: DataSource, knot: string): Promise<number | undefined> {
  const row = await data.getRepository(KnotEntity).findOneBy({ id: knot });
  return row && row.versionInForce > 0 ? row.versionInForce : undefined;
}

export async function findVersion(
  data: DataSource,
  knot: string,
  version: number,
): Promise<KnotVersionRow | undefined> {
  return (await data.getRepository(KnotVersionEntity).findOneBy({ knotId: knot, version })) ?? undefined;
}

/** The last versions without their definitions, newest first. */
export async function latestVersions(
  data: DataSource,
  knot: string,
  limit: number,
): Promise<readonly Omit<KnotVersionRow, 'definition'>[]> {
  return data.getRepository(KnotVersionEntity).find({
    where: { knotId: knot },
    order: { version: 'DESC' },
    select: { knotId: true, version: true, note: true, madeBy: true, madeAt: true },
    take: limit,
  });
}

/** Makes a knot whose first version is in force. */
export async function createKnot(data: DataSource, definition: Knot, person: string): Promise<void> {
  await data.transaction(async (db) => {
    await db.getRepository(KnotEntity).insert({ id: definition.id, name: definition.name, versionInForce: 1 });
    await db.getRepository(KnotVersionEntity).insert({
      knotId: definition.id,
      version: 1,
      definition: definition as never,
      note: 'first version',
      madeBy: person,
    });
  });
}

/** The members of knots in force, and not ended, that an object of a system is. */
export async function membersOfObject(
  db: SqlConnection,
  system: string,
  object: string,
): Promise<readonly { readonly knot: string; readonly member: string }[]> {
  return db.query(
    `select k.id as knot, m.member ->> 'id' as member
     from knot k join knot_version v on v.knot_id = k.id and v.version = k.version_in_force,
       jsonb_array_elements(v.definition::jsonb -> 'members') m(member)
     where k.state <> 'ended' and m.member ->> 'system' = $1 and m.member ->> 'object' = $2`,
    [system, object],
  ) as Promise<{ knot: string; member: string }[]>;
}

/** The members that are told of when something happens to a record of an object: those of it, and of rows in it. */
export async function membersTold(
  db: SqlConnection,
  system: string,
  object: string,
): Promise<readonly { readonly knot: string; readonly member: string; readonly isRows: boolean }[]> {
  const rows = (await db.query(
    `select rows.name from system s cross join lateral json_each(coalesce(s.description -> 'rows', '{}'))
       as rows (name, said) where s.id = $1 and rows.said ->> 'of' = $2`,
    [system, object],
  )) as { name: string }[];
  const told = await membersOfObject(db, system, object);
  const ofRows = await Promise.all(rows.map(({ name }) => membersOfObject(db, system, name)));
  return [
    ...told.map((member) => ({ ...member, isRows: false })),
    ...ofRows.flat().map((member) => ({ ...member, isRows: true })),
  ];
}

/** What some knots are called; those that are not there are left out. */
export async function namesOfKnots(db: SqlConnection, ids: readonly string[]): Promise<ReadonlyMap<string, string>> {
  if (ids.length === 0) return new Map();
  const rows = (await db.query('select id, name from knot where id = any($1::text[])', [[...new Set(ids)]])) as {
    id: string;
    name: string;
  }[];
  return new Map(rows.map(({ id, name }) => [id, name]));
}
