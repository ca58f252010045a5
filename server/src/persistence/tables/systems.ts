import type { DataSource } from 'typeorm';
import type { QueryDeepPartialEntity } from 'typeorm/query-builder/QueryPartialEntity.js';
import { SystemEntity, type SystemRow } from '../entities/entities.js';
import type { SqlConnection } from '../sql.js';

export async function allSystems(data: DataSource): Promise<SystemRow[]> {
  return data.getRepository(SystemEntity).find({ order: { id: 'asc' } });
}

export async function findSystem(data: DataSource, id: string): Promise<SystemRow | undefined> {
  return (await data.getRepository(SystemEntity).findOneBy({ id })) ?? undefined;
}

/** Makes a system, or gives one new values; what is not named stays. */
export async function saveSystem(data: DataSource, row: Partial<SystemRow> & Pick<SystemRow, 'id'>): Promise<void> {
  await data.getRepository(SystemEntity).save(row);
}

/**
 * Gives a system new values.
 * @param revision where it is given, only while the system is of that revision still
 * @returns whether there was such a system
 */
export async function changeSystem(
  data: DataSource,
  id: string,
  values: Partial<Omit<SystemRow, 'id'>>,
  revision?: number,
): Promise<boolean> {
  const { affected } = await data
    .getRepository(SystemEntity)
    .update({ id, ...(revision === undefined ? {} : { revision }) }, values as QueryDeepPartialEntity<SystemRow>);
  return (affected ?? 0) > 0;
}

export async function deleteSystem(data: DataSource, id: string): Promise<void> {
  await data.getRepository(SystemEntity).delete({ id });
}

/** Systems of which nothing was heard for so long; who asks looks after them, and nobody else for as long. */
export async function takeSilentSystems(db: SqlConnection, minutes: number): Promise<readonly string[]> {
  const [rows] = (await db.query(
    `update system set checked_at = now() where checked_at is null
       or checked_at < now() - make_interval(mins => $1) returning id`,
    [minutes],
  )) as [{ id: string }[], number];
  return rows.map(({ id }) => id);
}

/** Systems that are reached by TLS and whose certificate nobody has looked at for so long: one worker does it. */
export async function takeUnseenCertificates(db: SqlConnection, hours: number): Promise<readonly string[]> {
  const [rows] = (await db.query(
    `update system set certificate_seen_at = now()
     where (description ->> 'address' ilike 'https:%' or description ->> 'tls' <> 'off')
       and (certificate_seen_at is null or certificate_seen_at < now() - make_interval(hours => $1)) returning id`,
    [hours],
  )) as [{ id: string }[], number];
  return rows.map(({ id }) => id);
}

/** Where secrets are kept, encrypted; each is bound to its owner. */
export const secretPlaces = ['credential', 'tokens', 'webhook'] as const;
export type SecretPlace = (typeof secretPlaces)[number];
const columnOf: Readonly<Record<SecretPlace, readonly [table: string, column: string]>> = {
  credential: ['system', 'credential'],
  tokens: ['system', 'tokens'],
  webhook: ['webhook_subscription', 'secret'],
};

/** All secrets of a place, locked until the end of the transaction. */
export async function lockSecrets(
  db: SqlConnection,
  place: SecretPlace,
): Promise<readonly { readonly id: string; readonly secret: Buffer }[]> {
  const [table, column] = columnOf[place];
  return (await db.query(`select id, ${column} as secret from ${table} where ${column} is not null for update`)) as {
    id: string;
    secret: Buffer;
  }[];
}

export async function replaceSecret(db: SqlConnection, place: SecretPlace, id: string, secret: Buffer): Promise<void> {
  const [table, column] = columnOf[place];
  await db.query(`update ${table} set ${column} = $2 where id = $1`, [id, secret]);
}

/** What says the same again within so many seconds is not written again: many runs end at once. */
const healthSeconds = 15;

/** How working with systems went: what is wrong with each, or nothing. */
export async function noteHealth(
  db: SqlConnection,
  troubles: ReadonlyMap<string, SystemRow['trouble']>,
): Promise<void> {
  await db.query(
    `update system set trouble = r.trouble, checked_at = now()
     from jsonb_to_recordset($1::jsonb) as r(id text, trouble jsonb)
     where system.id = r.id and (system.trouble::jsonb is distinct from r.trouble
       or system.checked_at is null or system.checked_at < now() - make_interval(secs => $2))`,
    [JSON.stringify([...troubles].map(([id, trouble]) => ({ id, trouble }))), healthSeconds],
  );
}
