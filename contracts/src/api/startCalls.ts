import { z } from 'zod';
import { time } from './json.js';
import { mostNamedRecords } from './runs.js';

/** An address at which another program starts a knot, with calls signed as Standard Webhooks 1.0 says. */
export const startCallSchema = z.object({
  id: z.string(),
  name: z.string(),
  address: z.string(),
  madeBy: z.string(),
  madeAt: time,
  lastAt: time.nullable(),
  taken: z.number(),
  refused: z.number(),
});
export type StartCall = z.output<typeof startCallSchema>;
export const startCallsSchema = z.object({ calls: z.array(startCallSchema) });
export const makeStartCallSchema = z.object({ name: z.string().trim().min(1).max(100) });
export const madeStartCallSchema = z.object({ id: z.string(), address: z.string(), secret: z.string() });
export type MadeStartCall = z.output<typeof madeStartCallSchema>;

/** What a call says is to be read; without a word what changed in all members. */
export const calledScopeSchema = z.object({
  /** All records are listed, also where what changed could be asked for. */
  full: z.boolean().default(false),
  members: z.array(z.string()).min(1).optional(),
  records: z
    .array(z.object({ member: z.string(), key: z.string().min(1).max(1000) }))
    .min(1)
    .max(mostNamedRecords)
    .optional(),
});
export type CalledScope = z.output<typeof calledScopeSchema>;
