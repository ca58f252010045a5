import { createCipheriv, createDecipheriv, hkdfSync, randomBytes } from 'node:crypto';

const nonceBytes = 12;
const tagBytes = 16;

const signingBytes = 32;

/** A secret of signatures, in the form that the Standard Webhooks specification 1.0 gives it. */
export const newSigningSecret = (): string => `whsec_${randomBytes(signingBytes).toString('base64')}`;

/** Keeps secrets encrypted at rest: AES-256-GCM (NIST SP 800-38D) with a random nonce per secret. */
export class SecretBox {
  readonly #key: Buffer;

  /** @param master 32 bytes in base64 */
  constructor(master: string) {
    this.#key = Buffer.from(hkdfSync('sha256', Buffer.from(master, 'base64'), '', 'anchor-knot credentials', 32));
  }

  /** @param owner what the secret belongs to; it can only be opened for the same */
  seal(plain: string, owner: string): Buffer {
    const nonce = randomBytes(nonceBytes);
    const cipher = createCipheriv('aes-256-gcm', this.#key, nonce).setAAD(Buffer.from(owner));
    const sealed = Buffer.concat([cipher.update(plain, 'utf8'), cipher.final()]);
    return Buffer.concat([nonce, cipher.getAuthTag(), sealed]);
  }

  /** @throws when the key is another one, or the secret was tampered with or belongs to something else */
  open(sealed: Buffer, owner: string): string {
    const decipher = createDecipheriv('aes-256-gcm', this.#key, sealed.subarray(0, nonceBytes)).setAAD(
      Buffer.from(owner),
    );
    decipher.setAuthTag(sealed.subarray(nonceBytes, nonceBytes + tagBytes));
    return Buffer.concat([decipher.update(sealed.subarray(nonceBytes + tagBytes)), decipher.final()]).toString('utf8');
  }
}
