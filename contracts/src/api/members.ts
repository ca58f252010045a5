import { z } from 'zod';
import { time } from './json.js';

export const pennantSchema = z.object({
  pattern: z.enum(['halves', 'quarters', 'bars', 'saltire', 'disc', 'border', 'chevron', 'chequer']),
  colour: z.enum(['petrol', 'vermilion', 'brass', 'kelp', 'ink', 'plum']),
  letters: z.string().max(2),
});
export type Pennant = z.output<typeof pennantSchema>;

/** Where people see a record, with `{key}` for its key, and all records of an object: whole addresses. */
export const pagesSchema = z.object({ recordPage: z.string().nullable(), listPage: z.string().nullable() });
export type Pages = z.output<typeof pagesSchema>;

export const systemSummarySchema = z.object({
  id: z.string(),
  name: z.string(),
  kind: z.string(),
  address: z.string(),
  /** At which people work with it. */
  page: z.string().nullable(),
  environment: z.enum(['production', 'test copy']),
  pennant: pennantSchema,
  objects: z.array(z.string()),
  /** By object. */
  pages: z.record(z.string(), pagesSchema),
  trouble: z.object({ code: z.string(), words: z.string(), advice: z.string() }).nullable(),
  checkedAt: time.nullable(),
  usedIn: z.array(z.object({ knot: z.string(), name: z.string() })),
});
export type SystemSummary = z.output<typeof systemSummarySchema>;

export const memberSummarySchema = z.object({
  id: z.string(),
  system: z.string(),
  systemName: z.string(),
  object: z.string(),
  pennant: pennantSchema,
  ...pagesSchema.shape,
});
export type MemberSummary = z.output<typeof memberSummarySchema>;
