import type { Instant } from '@anchor-knot/core';

/** What a sign-in or a consent gave. */
export interface Tokens {
  readonly access: string;
  readonly until: Instant;
  readonly refresh?: string | undefined;
  /** What was granted, where the system says so. */
  readonly scope?: string | undefined;
  /** When the consent ends that they came of, where the system says so. */
  readonly consentEnds?: Instant | undefined;
}

/**
 * Access tokens that are good still, for all connectors of a process: a run need not ask for one that the run before
 * was given. Never stored; what has ended is dropped, so there is at most one for each sign-in that is in use.
 */
export class GrantedTokens {
  readonly #tokens = new Map<string, Tokens>();

  /** @param signIn names where, as whom and by which secret a token was had */
  find(signIn: string, now: Instant): Tokens | undefined {
    const tokens = this.#tokens.get(signIn);
    return tokens && tokens.until > now ? tokens : undefined;
  }

  keep(signIn: string, tokens: Tokens, now: Instant): void {
    for (const [name, { until }] of this.#tokens) if (until <= now) this.#tokens.delete(name);
    this.#tokens.set(signIn, tokens);
  }
}
