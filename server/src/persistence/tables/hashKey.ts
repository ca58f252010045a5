import { createHash } from 'node:crypto';

/** Keys are personal data, and of any length: 162 bits of their SHA-256 are kept. */
export function hashKey(key: string): string {
  return createHash('sha256').update(key).digest('base64url').slice(0, 27);
}
