import type { DataSource } from 'typeorm';
import { openDatabase } from '../persistence/dataSource.js';
import { dropBegun } from '../persistence/tables/consents.js';
import { lockSecrets, replaceSecret, type SecretPlace, secretPlaces } from '../persistence/tables/systems.js';
import { SecretBox } from './secretBox.js';

/**
 * Encrypts all secrets anew under another key, in one transaction: either all are under the new key, or none.
 * @param environment DATABASE_URL, SECRET_KEY (the key now) and NEW_SECRET_KEY, both 32 bytes in base64
 * @returns how many secrets were moved
 * @throws {Error} naming what is missing, or that the key now is not the one they are under
 */
export async function rotateKey(environment: NodeJS.ProcessEnv): Promise<number> {
  const { DATABASE_URL: url, SECRET_KEY: now, NEW_SECRET_KEY: next } = environment;
  if (!url) throw new Error('DATABASE_URL is missing');
  if (!isKey(now)) throw new Error('SECRET_KEY, the key that the secrets are under now, must be 32 bytes in base64');
  if (!isKey(next))
    throw new Error('NEW_SECRET_KEY must be 32 bytes in base64; make one with: openssl rand -base64 32');
  let data: DataSource | undefined;
  try {
    data = await openDatabase(url);
    return await moveSecrets(data, new SecretBox(now), new SecretBox(next));
  } catch (error) {
    if (/authenticate data/.test((error as Error).message))
      throw new Error('SECRET_KEY is not the key that the secrets are under; nothing was changed', { cause: error });
    throw error;
  } finally {
    await data?.destroy();
  }
}

/** What the secrets of each place are bound to. */
const ownerOf: Readonly<Record<SecretPlace, (id: string) => string>> = {
  credential: (id) => id,
  tokens: (id) => `tokens ${id}`,
  webhook: (id) => `webhook ${id}`,
};

async function moveSecrets(data: DataSource, from: SecretBox, to: SecretBox): Promise<number> {
  return data.transaction(async (db) => {
    let moved = 0;
    for (const place of secretPlaces) {
      const secrets = await lockSecrets(db, place);
      for (const { id, secret } of secrets) {
        const owner = ownerOf[place](id);
        await replaceSecret(db, place, id, to.seal(from.open(secret, owner), owner));
      }
      moved += secrets.length;
    }
    // Consents that somebody is just giving are begun again.
    await dropBegun(db);
    return moved;
  });
}

function isKey(text: string | undefined): text is string {
  return text !== undefined && Buffer.from(text, 'base64').length === 32;
}
