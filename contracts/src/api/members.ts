import { z } from 'zod';
import { time } from './json.js';

export const pennantSchema = z.object({
  pattern: z.enum(['halves', 'quarters', 'bars', 'saltire', 'disc', 'border', 'chevron', 'chequer']),
  colour: z.enum(['petrol', 'vermilion', 'brass', 'kelp', 'ink', 'plum']),
  letters: z.string().max(2),
});
export type Pennant = z.output<typeof pennantSchema>;

export const systemSummarySchema = z.object({
  id: z.string(),
  name: z.string(),
  kind: z.string(),
  address: z.string(),
  pageAddress: z.string().nullable(),
  environment: z.enum(['production', 'test copy']),
  pennant: pennantSchema,
  objects: z.array(z.string()),
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
  recordPage: z.string().nullable(),
});
export type MemberSummary = z.output<typeof memberSummarySchema>;
