import { z } from 'zod';

/** How to sign in to a system over HTTP. What signs in, the credential, is kept apart from it. */
export const systemSignInSchema = z.discriminatedUnion('kind', [
  /**
   * OAuth 2.0 authorization code (RFC 6749 section 4.1) with PKCE (RFC 7636): a person gives consent at the system,
   * once.
   * The credential is that of this application there: its client id and secret.
   */
  z.strictObject({
    kind: z.literal('authorization code'),
    authorizationUrl: z.url({ protocol: /^https?$/ }),
    tokenUrl: z.url({ protocol: /^https?$/ }),
    revocationUrl: z.url({ protocol: /^https?$/ }).optional(),
    /** Who answers (RFC 9207); the origin of the token URL where nothing else is said. */
    issuer: z.url({ protocol: /^https?$/ }).optional(),
    scope: z.string().max(1000).optional(),
  }),
  /** OAuth 2.0 client credentials (RFC 6749 section 4.4). The token's path begins at the host, not at the address. */
  z.strictObject({
    kind: z.literal('client credentials'),
    tokenPath: z.string().startsWith('/'),
    scope: z.string().optional(),
  }),
  /** HTTP Basic (RFC 7617) with a key and a secret. */
  z.strictObject({ kind: z.literal('key and secret') }),
  /** A token that does not change (RFC 6750): the credential's secret. Its id is only a name. */
  z.strictObject({ kind: z.literal('bearer token') }),
  /** The credential's secret in a header of the system's own. */
  z.strictObject({
    kind: z.literal('header key'),
    header: z.string().regex(/^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}$/, 'is not the name of a header'),
  }),
  z.strictObject({ kind: z.literal('none') }),
]);
export type SystemSignIn = z.output<typeof systemSignInSchema>;

/** What signs in: an id and a secret. Kept apart from the description, encrypted at rest. */
export const credentialSchema = z.strictObject({ id: z.string().min(1).max(500), secret: z.string().min(1).max(5000) });
export type Credential = z.output<typeof credentialSchema>;

/** What a system bears, shared by all workers. What is not given is not limited. */
export const callBudgetSchema = z.strictObject({
  perSecond: z.number().min(0.01).max(10_000).optional(),
  /** A day of UTC. */
  perDay: z.int().min(1).max(1_000_000_000).optional(),
  atOnce: z.int().min(1).max(100).optional(),
});
export type CallBudgetSettings = z.output<typeof callBudgetSchema>;
