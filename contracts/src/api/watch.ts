import { z } from 'zod';
import { decisionKindSchema } from './decisions.js';
import { time } from './json.js';
import { knotStateSchema } from './knots.js';
import { memberSummarySchema, systemSummarySchema } from './members.js';
import { runSchema } from './runs.js';

export const watchSchema = z.object({
  knots: z.array(
    z.object({
      id: z.string(),
      name: z.string(),
      thing: z.string(),
      state: knotStateSchema,
      anchors: z.number(),
      agree: z.number(),
      members: z.array(memberSummarySchema.extend({ ties: z.number(), waiting: z.number(), trouble: z.boolean() })),
      lastRun: runSchema.nullable(),
      openRun: runSchema.nullable(),
      /** When it runs by its timing next; null where no time is set, or nothing may run. */
      nextAt: time.nullable(),
    }),
  ),
  systems: z.array(systemSummarySchema),
  waiting: z.array(
    z.object({ knot: z.string(), kind: decisionKindSchema, count: z.number(), example: z.string(), since: time }),
  ),
  written: z.array(z.object({ hour: time, values: z.number() })),
  lastRuns: z.array(runSchema),
});
export type Watch = z.output<typeof watchSchema>;
