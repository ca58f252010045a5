import type { Instant } from '@anchor-knot/core';

/** One call of a system and what it answered, as texts. What signs in is no part of it. */
export interface Exchange {
  readonly at: Instant;
  readonly tookMs: number;
  /** The method of HTTP, or `SQL`. */
  readonly method: string;
  /** The path with its query, or the statement. */
  readonly target: string;
  readonly sent: string | undefined;
  /** The status of HTTP; none where nothing was answered, or there is no such thing. */
  readonly status: number | undefined;
  readonly received: string | undefined;
  /** Why there is no answer. */
  readonly trouble: string | undefined;
}

/** Is told of each call, for somebody who looks into what a system does. */
export type ExchangeListener = (exchange: Exchange) => void;
