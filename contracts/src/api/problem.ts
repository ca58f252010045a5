import { z } from 'zod';

/** An error that a person can act on: a code for programs, words, and what to do. */
export const problemSchema = z.object({
  code: z.string(),
  says: z.string(),
  advice: z.string().optional(),
  problems: z.array(z.object({ at: z.string(), says: z.string() })).optional(),
});
export type Problem = z.output<typeof problemSchema>;
