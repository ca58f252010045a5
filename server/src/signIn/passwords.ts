import { hash, verify } from '@node-rs/argon2';

// OWASP's recommendation for Argon2id (RFC 9106): 19 MiB, 2 passes, 1 lane.
const parameters = { memoryCost: 19_456, timeCost: 2, parallelism: 1 };
/** Compared against when there is no such account, so that the answer takes as long. */
const nobody = hash('nobody', parameters);

export async function hashPassword(password: string): Promise<string> {
  return hash(password, parameters);
}

export async function passwordMatches(known: string | undefined, password: string): Promise<boolean> {
  return (await verify(known ?? (await nobody), password)) && known !== undefined;
}
