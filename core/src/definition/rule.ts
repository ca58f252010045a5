import type { MemberId } from '../record/index.js';

/**
 * What settles a conflict: steps that each narrow the candidates, the last being *ask* or an order of members.
 * A combining rule takes every edit into one value; its steps are for what cannot be combined.
 */
export interface Rule {
  readonly combine?: 'sum' | 'union' | 'text' | undefined;
  readonly steps: readonly RuleStep[];
  /** Why it is so, for who looks at it later. */
  readonly reason?: string | undefined;
}

export type RuleStep =
  | { readonly step: 'newest'; readonly toleranceSeconds?: number | undefined }
  | { readonly step: 'order'; readonly members: readonly MemberId[] }
  | { readonly step: 'greatest' }
  | { readonly step: 'least' }
  | { readonly step: 'longest' }
  | { readonly step: 'present' }
  | { readonly step: 'ask' };
