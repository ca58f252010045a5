import * as oauth from 'oauth4webapi';
import type { Credential, HttpSystem, ODataSystem, SystemSignIn } from '@anchor-knot/contracts';
import { SystemTrouble } from '../connector.js';
import { filteredAgent } from './agent.js';
import type { CallerDependencies } from './caller.js';
import { requestOptions, secretOf, serverOf, tokensOf, tokenTrouble } from './signIn.js';
import type { Tokens } from './tokens.js';

type CodeSignIn = Extract<SystemSignIn, { kind: 'authorization code' }>;
/** A system to whose sign-in a person gives consent. */
export type ConsentedSystem = (HttpSystem | ODataSystem) & { readonly signIn: CodeSignIn };

/** What has to be kept until the person comes back. */
export interface ConsentBegun {
  /** Where the person is sent to. */
  readonly url: string;
  readonly state: string;
  /** Secret: proves that whoever ends it is who began it (RFC 7636). */
  readonly verifier: string;
}

/**
 * Begins the authorization code flow (RFC 6749 section 4.1.1) with PKCE by S256 (RFC 7636). @param callback where the
 * person comes back to
 */
export async function beginConsent(
  { signIn }: ConsentedSystem,
  clientId: string,
  callback: string,
): Promise<ConsentBegun> {
  const verifier = oauth.generateRandomCodeVerifier();
  const state = oauth.generateRandomState();
  const url = new URL(signIn.authorizationUrl);
  const parameters = {
    client_id: clientId,
    redirect_uri: callback,
    response_type: 'code',
    state,
    code_challenge: await oauth.calculatePKCECodeChallenge(verifier),
    code_challenge_method: 'S256',
    ...(signIn.scope ? { scope: signIn.scope } : {}),
    // Without it, some systems give no refresh token (OpenID Connect Core section 11).
    ...(/\boffline_access\b/.test(signIn.scope ?? '') ? { prompt: 'consent' } : {}),
  };
  for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value);
  return { url: url.href, state, verifier };
}

/**
 * Ends it with what the person brought back.
 * @param answer the query of the callback
 * @throws {SystemTrouble} when the person said no, the answer belongs to another question, or the code is not taken
 */
export async function completeConsent(
  system: ConsentedSystem,
  credential: Credential,
  { state, verifier, callback }: { readonly state: string; readonly verifier: string; readonly callback: string },
  answer: URLSearchParams,
  dependencies: CallerDependencies,
): Promise<Tokens> {
  const server = serverOf(system.signIn);
  const client = { client_id: credential.id };
  const agent = filteredAgent(dependencies.addresses, system.name, system.timeoutMs);
  try {
    const checked = oauth.validateAuthResponse(server, client, answer, state);
    const response = await oauth.authorizationCodeGrantRequest(
      server,
      client,
      secretOf(credential),
      checked,
      callback,
      verifier,
      requestOptions(agent),
    );
    return tokensOf(await oauth.processAuthorizationCodeResponse(server, client, response), dependencies.clock);
  } catch (error) {
    if (error instanceof oauth.AuthorizationResponseError)
      throw new SystemTrouble(
        'sign-in refused',
        `${system.name}: ${error.error_description ?? error.error}`,
        error.error === 'access_denied'
          ? 'Nothing was granted. Begin again, and allow it there.'
          : 'Correct the sign-in in the description of the system, and begin again.',
        { cause: error },
      );
    throw tokenTrouble(error, system.name);
  } finally {
    await agent.close();
  }
}

/** Gives a consent back (RFC 7009), where the system has an address for it. @throws {SystemTrouble} */
export async function revokeConsent(
  system: ConsentedSystem,
  credential: Credential,
  tokens: Tokens,
  dependencies: CallerDependencies,
): Promise<void> {
  if (system.signIn.revocationUrl === undefined) return;
  const agent = filteredAgent(dependencies.addresses, system.name, system.timeoutMs);
  try {
    const server = serverOf(system.signIn);
    const response = await oauth.revocationRequest(
      server,
      { client_id: credential.id },
      secretOf(credential),
      tokens.refresh ?? tokens.access,
      requestOptions(agent),
    );
    await oauth.processRevocationResponse(response);
  } catch (error) {
    throw tokenTrouble(error, system.name);
  } finally {
    await agent.close();
  }
}
