import type { Instant } from '@anchor-knot/core';
import type { SqlConnection } from '../sql.js';

/** Consents that somebody is just giving, and the tokens that came of those that were given; all secrets encrypted. */

export interface BegunConsent {
  readonly system: string;
  /** What the answer is to be sent to. */
  readonly callback: string;
  readonly verifier: Buffer;
}

/** Keeps a consent that a person begins, for so long; forgets those that are too old. */
export async function keepBegun(
  db: SqlConnection,
  stateDigest: string,
  person: string,
  { system, callback, verifier }: BegunConsent,
  minutes: number,
): Promise<void> {
  await db.query('delete from consent_begun where expires_at < now()');
  await db.query(
    `insert into consent_begun (state_digest, system_id, person, verifier, callback, expires_at)
     values ($1, $2, $3, $4, $5, now() + make_interval(mins => $6))`,
    [stateDigest, system, person, verifier, callback, minutes],
  );
}

/** Each is good once, for the person who began it. */
export async function takeBegun(
  db: SqlConnection,
  stateDigest: string,
  person: string,
): Promise<BegunConsent | undefined> {
  const [[row]] = (await db.query(
    `delete from consent_begun where state_digest = $1 and person = $2 and expires_at > now()
     returning system_id as system, callback, verifier`,
    [stateDigest, person],
  )) as [BegunConsent[], number];
  return row;
}

export async function dropBegun(db: SqlConnection): Promise<void> {
  await db.query('delete from consent_begun');
}

export async function tokensOf(db: SqlConnection, system: string): Promise<Buffer | undefined> {
  const [row] = (await db.query('select tokens from system where id = $1', [system])) as { tokens: Buffer | null }[];
  return row?.tokens ?? undefined;
}

/** As {@link tokensOf}, locked until the end of the transaction. */
export async function lockTokens(db: SqlConnection, system: string): Promise<Buffer | undefined> {
  const [row] = (await db.query('select tokens from system where id = $1 for update', [system])) as {
    tokens: Buffer | null;
  }[];
  return row?.tokens ?? undefined;
}

/** @param stored what a consent has given; its end where the system says so */
export async function storeTokens(
  db: SqlConnection,
  system: string,
  stored: {
    readonly tokens: Buffer | undefined;
    readonly scope: string | undefined;
    readonly ends: Instant | undefined;
  },
): Promise<void> {
  const { tokens, scope, ends } = stored;
  await db.query(
    `update system set tokens = $2, consent_scope = $3, consent_ends_at = $4,
       consent_end_said_at = case when consent_ends_at is distinct from $4 then now() else consent_end_said_at end
     where id = $1`,
    [system, tokens ?? null, scope ?? null, ends === undefined ? null : new Date(ends)],
  );
}
