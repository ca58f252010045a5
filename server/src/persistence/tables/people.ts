import { type DataSource, LessThan } from 'typeorm';
import type { SqlConnection } from '../sql.js';
import { SessionEntity, UserEntity, type UserRow } from '../entities/entities.js';

/** People who may sign in, and their sessions. */

export async function countPeople(data: DataSource): Promise<number> {
  return data.getRepository(UserEntity).count();
}

export async function insertPerson(data: DataSource, person: UserRow): Promise<void> {
  await data.getRepository(UserEntity).insert(person);
}

/** Everybody who can decide, by name. */
export async function colleagues(db: SqlConnection): Promise<readonly { email: string; name: string }[]> {
  return (await db.query(
    `select email, name from user_account where role <> 'viewer' order by lower(name), email`,
  )) as { email: string; name: string }[];
}

/** @param email however it is written */
export async function personByEmail(data: DataSource, email: string): Promise<UserRow | undefined> {
  const person = data
    .getRepository(UserEntity)
    .createQueryBuilder('u')
    .where('lower(u.email) = lower(:email)', { email });
  return (await person.getOne()) ?? undefined;
}

/** Whose session a token is of, while it lasts. */
export async function personOfSession(data: DataSource, tokenHash: string, now: Date): Promise<UserRow | undefined> {
  const session = await data.getRepository(SessionEntity).findOneBy({ tokenHash });
  if (!session || session.expiresAt < now) return undefined;
  return (await data.getRepository(UserEntity).findOneBy({ id: session.userId })) ?? undefined;
}

/** Begins a session; those that have ended are forgotten. */
export async function beginSession(
  data: DataSource,
  tokenHash: string,
  userId: string,
  expiresAt: Date,
): Promise<void> {
  await data.getRepository(SessionEntity).delete({ expiresAt: LessThan(new Date()) });
  await data.getRepository(SessionEntity).insert({ tokenHash, userId, expiresAt });
}

export async function endSession(data: DataSource, tokenHash: string): Promise<void> {
  await data.getRepository(SessionEntity).delete({ tokenHash });
}
