import { z } from 'zod';
import { time } from './json.js';

/** One call of a system that a run made, with secrets and sensitive values struck out. */
export const exchangeSchema = z.object({
  id: z.string(),
  member: z.string(),
  at: time,
  tookMs: z.number(),
  method: z.string(),
  /** The path with its query, or the statement. */
  target: z.string(),
  status: z.number().nullable(),
  sent: z.string().nullable(),
  received: z.string().nullable(),
  /** Why there is no answer. */
  trouble: z.string().nullable(),
});
export type Exchange = z.output<typeof exchangeSchema>;
export const exchangeListSchema = z.object({
  exchanges: z.array(exchangeSchema),
  next: z.string().nullable(),
  /** Calls that were made besides and are not kept; null where none was to be kept. */
  leftOut: z.number().nullable(),
  /** Of how many runs to come of this knot the calls are to be kept. */
  nextRuns: z.number(),
});
export type ExchangeList = z.output<typeof exchangeListSchema>;

export const mostDetailRuns = 50;
export const keepDetailSchema = z.object({ runs: z.int().min(0).max(mostDetailRuns) });
