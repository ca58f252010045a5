import { createHash } from 'node:crypto';
import * as oauth from 'oauth4webapi';
import { type Agent, fetch as undiciFetch } from 'undici';
import type { Credential, SystemSignIn } from '@anchor-knot/contracts';
import type { Instant } from '@anchor-knot/core';
import { type Clock, SystemTrouble } from '../connector.js';
import { mostAttempts, pause } from '../pause.js';
import type { GrantedTokens, Tokens } from './tokens.js';

/** Keeps the tokens of a consent for all workers: a refresh token may be good only once (RFC 9700 section 4.14). */
export interface TokenKeeper {
  read(): Promise<Tokens | undefined>;
  /**
   * Replaces tokens, by one worker at a time. `renew` is not called when others have renewed them already.
   * @param stale the access token that is no longer good
   * @param renew gives the new tokens; `undefined` when the consent was taken back
   * @returns the tokens as they are then
   */
  renew(stale: string, renew: (tokens: Tokens) => Promise<Tokens | undefined>): Promise<Tokens | undefined>;
}

export interface SignInDependencies {
  readonly clock: Clock;
  readonly random: () => number;
  readonly credential?: Credential | undefined;
  readonly tokens?: TokenKeeper | undefined;
  /** Tokens of client credentials that others were given. */
  readonly granted?: GrantedTokens | undefined;
}

type ClientSignIn = Extract<SystemSignIn, { kind: 'client credentials' }>;
type CodeSignIn = Extract<SystemSignIn, { kind: 'authorization code' }>;
/** A token is renewed this long before it ends, so that it does not end on the way. */
const earlyMs = 30_000;
/** What is said to be good for longer than a century does not end. */
const longestConsentS = 100 * 365 * 24 * 3600;
const tokenLifeWithoutWordMs = 300_000;

/** Signs in to one system: gives the headers for each call, and gets new tokens where they end. */
export class SignInHeaders {
  readonly #name: string;
  readonly #origin: string;
  readonly #signIn: SystemSignIn;
  readonly #dependencies: SignInDependencies;
  readonly #agent: Agent;
  #token: Tokens | undefined;

  constructor(
    { name, address, signIn }: { readonly name: string; readonly address: string; readonly signIn: SystemSignIn },
    dependencies: SignInDependencies,
    agent: Agent,
  ) {
    this.#name = name;
    this.#origin = new URL(address).origin;
    this.#signIn = signIn;
    this.#dependencies = dependencies;
    this.#agent = agent;
  }

  /** Whether another attempt may be accepted after a refusal, because a new token can be had. */
  get renewable(): boolean {
    return this.#signIn.kind === 'client credentials' || this.#signIn.kind === 'authorization code';
  }

  /** @param refused true when the headers given last were refused. @throws {SystemTrouble} */
  async headers(refused = false): Promise<Readonly<Record<string, string>>> {
    const signIn = this.#signIn;
    if (signIn.kind === 'none') return {};
    const { credential } = this.#dependencies;
    if (!credential)
      throw new SystemTrouble(
        'sign-in refused',
        `no credential is kept for ${this.#name}`,
        'Enter the credential of this system.',
      );
    switch (signIn.kind) {
      case 'key and secret':
        return { authorization: `Basic ${Buffer.from(`${credential.id}:${credential.secret}`).toString('base64')}` };
      case 'bearer token':
        return { authorization: `Bearer ${credential.secret}` };
      case 'header key':
        return { [signIn.header.toLowerCase()]: credential.secret };
      case 'client credentials':
        return { authorization: `Bearer ${await this.#grantedToken(signIn, credential, refused)}` };
      case 'authorization code':
        return { authorization: `Bearer ${await this.#consentToken(signIn, credential, refused)}` };
      default:
        throw new Error(`unknown sign-in ${JSON.stringify(signIn satisfies never)}`);
    }
  }

  async #grantedToken(signIn: ClientSignIn, credential: Credential, refused: boolean): Promise<string> {
    const { clock, granted } = this.#dependencies;
    const secret = createHash('sha256').update(credential.secret).digest('base64');
    const name = JSON.stringify([this.#origin, signIn.tokenPath, signIn.scope ?? null, credential.id, secret]);
    const known = granted?.find(name, clock.now()) ?? this.#token;
    // One that others were given since is tried before another is asked for.
    const isStale = !known || known.until <= clock.now() || (refused && known.access === this.#token?.access);
    this.#token = isStale ? await this.#clientCredentials(signIn, credential) : known;
    if (isStale) granted?.keep(name, this.#token, clock.now());
    return this.#token.access;
  }

  async #clientCredentials(signIn: ClientSignIn, credential: Credential): Promise<Tokens> {
    const server = { issuer: this.#origin, token_endpoint: this.#origin + signIn.tokenPath };
    const client = { client_id: credential.id };
    return this.#asking(async (options) => {
      const response = await oauth.clientCredentialsGrantRequest(
        server,
        client,
        secretOf(credential),
        signIn.scope ? { scope: signIn.scope } : {},
        options,
      );
      return tokensOf(await oauth.processClientCredentialsResponse(server, client, response), this.#dependencies.clock);
    });
  }

  async #consentToken(signIn: CodeSignIn, credential: Credential, refused: boolean): Promise<string> {
    const keeper = this.#dependencies.tokens;
    const missing = new SystemTrouble(
      'sign-in refused',
      `nobody has given consent at ${this.#name} yet`,
      'Open the system here and give consent.',
    );
    this.#token = refused ? this.#token : await keeper?.read();
    const known = this.#token;
    if (!keeper || !known) throw missing;
    if (!refused && known.until > this.#dependencies.clock.now()) return known.access;
    const renewed = await keeper.renew(known.access, async ({ refresh, scope, consentEnds }) => {
      if (refresh === undefined) return undefined;
      try {
        const tokens = await this.#refreshed(signIn, credential, refresh);
        // Of the same refresh token the end is still the one that was said with it.
        const ends = tokens.consentEnds ?? (tokens.refresh === refresh ? consentEnds : undefined);
        return { ...tokens, scope: tokens.scope ?? scope, consentEnds: ends };
      } catch (error) {
        if (error instanceof SystemTrouble && error.code === 'sign-in refused') return undefined;
        throw error;
      }
    });
    if (!renewed)
      throw new SystemTrouble(
        'sign-in refused',
        `the consent for ${this.#name} has ended or was taken back there`,
        'Open the system here and give consent again.',
      );
    this.#token = renewed;
    return renewed.access;
  }

  async #refreshed(signIn: CodeSignIn, credential: Credential, refresh: string): Promise<Tokens> {
    const server = serverOf(signIn);
    const client = { client_id: credential.id };
    return this.#asking(async (options) => {
      const response = await oauth.refreshTokenGrantRequest(server, client, secretOf(credential), refresh, options);
      const tokens = tokensOf(
        await oauth.processRefreshTokenResponse(server, client, response),
        this.#dependencies.clock,
      );
      // A system that does not give another refresh token means that this one stays.
      return { ...tokens, refresh: tokens.refresh ?? refresh };
    });
  }

  /** Asks for tokens, again where the system says later or cannot be reached. @throws {SystemTrouble} */
  async #asking(ask: (options: RequestOptions) => Promise<Tokens>): Promise<Tokens> {
    for (let attempt = 1; ; attempt += 1) {
      try {
        return await ask(requestOptions(this.#agent));
      } catch (error) {
        const trouble = tokenTrouble(error, this.#name);
        const retryAfter =
          error instanceof oauth.ResponseBodyError || error instanceof oauth.OperationProcessingError
            ? retryAfterOf(error)
            : undefined;
        if (
          trouble.code === 'sign-in refused' ||
          trouble.code === 'not allowed' ||
          attempt >= (trouble.code === 'unreachable' ? 3 : mostAttempts)
        )
          throw trouble;
        await pause(this.#dependencies, attempt, retryAfter);
      }
    }
  }
}

export function tokensOf(answer: oauth.TokenEndpointResponse, clock: Clock): Tokens {
  const { access_token: access, expires_in: seconds, refresh_token: refresh, scope } = answer;
  const lifeMs = seconds === undefined ? tokenLifeWithoutWordMs : Math.max(1000, seconds * 1000 - earlyMs);
  return { access, until: clock.now() + lifeMs, refresh, scope, consentEnds: consentEnd(answer, clock.now()) };
}

/** Not in RFC 6749: as the OAuth working group's draft of refresh token expiration names the two. */
function consentEnd(
  { authorization_expires_in: ofConsent, refresh_token_expires_in: ofRefresh }: oauth.TokenEndpointResponse,
  now: Instant,
): Instant | undefined {
  const seconds = [ofConsent, ofRefresh]
    .filter((said) => said !== undefined && said !== null)
    .map(Number)
    .filter((said) => Number.isFinite(said) && said > 0 && said < longestConsentS);
  return seconds.length === 0 ? undefined : now + Math.min(...seconds) * 1000;
}

type RequestOptions = {
  [oauth.customFetch]: (...args: Parameters<typeof fetch>) => Promise<Response>;
  [oauth.allowInsecureRequests]: boolean;
};

/** Whether plain HTTP is sound between here and there is for the address filter and the administrator to say. */
export function requestOptions(agent: Agent): RequestOptions {
  return {
    [oauth.customFetch]: (url, init) =>
      undiciFetch(url as string, {
        ...(init as object),
        dispatcher: agent,
        redirect: 'manual',
      }) as unknown as Promise<Response>,
    [oauth.allowInsecureRequests]: true,
  };
}

export function serverOf({ issuer, authorizationUrl, tokenUrl, revocationUrl }: CodeSignIn): oauth.AuthorizationServer {
  return {
    issuer: issuer ?? new URL(tokenUrl).origin,
    authorization_endpoint: authorizationUrl,
    token_endpoint: tokenUrl,
    ...(revocationUrl ? { revocation_endpoint: revocationUrl } : {}),
  };
}

/** RFC 6749 section 2.3.1. */
export function secretOf({ secret }: Credential): oauth.ClientAuth {
  return oauth.ClientSecretBasic(secret);
}

/** What went wrong at a token endpoint, in its own words. */
export function tokenTrouble(error: unknown, name: string): SystemTrouble {
  const own = systemTroubleIn(error);
  if (own) return own;
  if (error instanceof oauth.ResponseBodyError && error.status < 500 && error.status !== 429)
    return refused(name, [error.error_description, error.error].filter(Boolean).join(' – '), error);
  if (error instanceof oauth.WWWAuthenticateChallengeError)
    return refused(name, 'the client id or secret is wrong', error);
  if (error instanceof oauth.ResponseBodyError || error instanceof oauth.OperationProcessingError) {
    const status = statusOf(error);
    if (status !== undefined && (status >= 500 || status === 429))
      return new SystemTrouble(
        'server error',
        `${name} cannot give a token: status ${status}`,
        'Try again later; if it stays so, ask whoever runs that system.',
        { cause: error },
      );
    return refused(name, error.message, error);
  }
  return new SystemTrouble(
    'unreachable',
    `${name}: its token address cannot be reached: ${messageOf(error)}`,
    'See whether it is running and whether the address is right.',
    {
      cause: error,
    },
  );
}

function refused(name: string, words: string, cause: unknown): SystemTrouble {
  return new SystemTrouble(
    'sign-in refused',
    `${name} refused the sign-in: ${words}`,
    'Check the client id and secret of this system, and enter them again if they were replaced there.',
    { cause },
  );
}

function systemTroubleIn(error: unknown): SystemTrouble | undefined {
  for (let one = error; one instanceof Error; one = one.cause) if (one instanceof SystemTrouble) return one;
  return undefined;
}

function statusOf(error: Error): number | undefined {
  return responseOf(error)?.status;
}

function retryAfterOf(error: Error): string | undefined {
  return responseOf(error)?.headers.get('retry-after') ?? undefined;
}

function responseOf(error: Error): Response | undefined {
  const held = 'response' in error ? error.response : error.cause;
  return typeof held === 'object' && held !== null && 'status' in held && 'headers' in held
    ? (held as Response)
    : undefined;
}

function messageOf(error: unknown): string {
  if (!(error instanceof Error)) return String(error);
  return error.cause instanceof Error ? error.cause.message : error.message;
}
