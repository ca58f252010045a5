import { createHash } from 'node:crypto';
import type { DataSource } from 'typeorm';
import {
  beginConsent,
  type CallerDependencies,
  completeConsent,
  type ConsentedSystem,
  revokeConsent,
  type TokenKeeper,
  type Tokens,
} from '@anchor-knot/connectors';
import { type Credential, type Person, type System, systemSchema } from '@anchor-knot/contracts';
import type { SystemRow } from '../persistence/entities/entities.js';
import { keepBegun, lockTokens, storeTokens, takeBegun, tokensOf } from '../persistence/tables/consents.js';
import { changeSystem } from '../persistence/tables/systems.js';
import type { SecretBox } from './secretBox.js';

const minutesToDecide = 15;

/** What a system without a consent has of one. */
export const noConsent = {
  tokens: null,
  consentBy: null,
  consentAt: null,
  consentScope: null,
  consentEndsAt: null,
} as const;

/** The consents that people gave to sign in to systems, and the tokens that came of them. */
export class Consents {
  readonly #data: DataSource;
  readonly #secrets: SecretBox;

  constructor(data: DataSource, secrets: SecretBox) {
    this.#data = data;
    this.#secrets = secrets;
  }

  /** @returns where to send the person, who comes back to `callback` */
  async begin(
    row: SystemRow,
    system: ConsentedSystem,
    clientId: string,
    person: Person,
    callback: string,
  ): Promise<string> {
    const { url, state, verifier } = await beginConsent(system, clientId, callback);
    const sealed = this.#secrets.seal(verifier, `consent ${row.id}`);
    const begun = { system: row.id, callback, verifier: sealed };
    await keepBegun(this.#data, digest(state), person.email, begun, minutesToDecide);
    return url;
  }

  /** Whose consent an answer ends; each state is good once, for the person who began it. */
  async take(
    state: string,
    person: Person,
  ): Promise<{ system: string; callback: string; verifier: string } | undefined> {
    const begun = await takeBegun(this.#data, digest(state), person.email);
    return begun && { ...begun, verifier: this.#secrets.open(begun.verifier, `consent ${begun.system}`) };
  }

  /** @throws {SystemTrouble} when the other system does not give tokens for it */
  async complete(
    row: SystemRow,
    system: ConsentedSystem,
    credential: Credential,
    begun: { readonly state: string; readonly verifier: string; readonly callback: string },
    answer: URLSearchParams,
    person: Person,
    dependencies: CallerDependencies,
  ): Promise<void> {
    const tokens = await completeConsent(system, credential, begun, answer, dependencies);
    await changeSystem(this.#data, row.id, {
      tokens: this.#sealed(row.id, tokens),
      consentBy: person.name,
      consentAt: new Date(),
      consentScope: tokens.scope ?? null,
      consentEndsAt: tokens.consentEnds === undefined ? null : new Date(tokens.consentEnds),
      consentEndSaidAt: new Date(),
      trouble: null,
    });
  }

  /** Gives it back at the other system too; what is kept here is forgotten in any case. @throws {SystemTrouble} */
  async revoke(
    row: SystemRow,
    system: ConsentedSystem,
    credential: Credential | undefined,
    dependencies: CallerDependencies,
  ): Promise<void> {
    const tokens = await this.#read(row.id);
    await changeSystem(this.#data, row.id, noConsent);
    if (tokens && credential) await revokeConsent(system, credential, tokens, dependencies);
  }

  keeper(id: string): TokenKeeper {
    return {
      read: () => this.#read(id),
      // The row is locked while it is renewed: a second worker waits, and finds the new tokens.
      renew: (stale, renew) =>
        this.#data.transaction(async (db) => {
          const tokens = await lockTokens(db, id);
          if (!tokens) return undefined;
          const known = this.#opened(id, tokens);
          if (known.access !== stale) return known;
          const renewed = await renew(known);
          await storeTokens(db, id, {
            tokens: renewed && this.#sealed(id, renewed),
            scope: renewed?.scope,
            ends: renewed?.consentEnds,
          });
          return renewed;
        }),
    };
  }

  async #read(id: string): Promise<Tokens | undefined> {
    const tokens = await tokensOf(this.#data, id);
    return tokens && this.#opened(id, tokens);
  }

  #sealed(id: string, tokens: Tokens): Buffer {
    return this.#secrets.seal(JSON.stringify(tokens), `tokens ${id}`);
  }

  #opened(id: string, sealed: Buffer): Tokens {
    return JSON.parse(this.#secrets.open(sealed, `tokens ${id}`)) as Tokens;
  }
}

/** The system of a row, where its sign-in is by consent. */
export function consented(description: System): ConsentedSystem | undefined {
  const system = systemSchema.parse(description);
  return (system.kind === 'http' || system.kind === 'odata') && system.signIn.kind === 'authorization code'
    ? (system as ConsentedSystem)
    : undefined;
}

function digest(state: string): string {
  return createHash('sha256').update(state).digest('base64url');
}
