import { z } from 'zod';
import { runSchema } from './runs.js';

/** A draft was kept, or is there no more (revision 0). */
export const draftEventSchema = z.object({
  kind: z.literal('draft'),
  knot: z.string(),
  revision: z.number(),
  by: z.string(),
});
export type DraftEvent = z.output<typeof draftEventSchema>;
export const serverEventSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('run'), run: runSchema }),
  draftEventSchema,
]);
export type ServerEvent = z.output<typeof serverEventSchema>;
