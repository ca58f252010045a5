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
      members: z.array(
        memberSummarySchema.extend({
          ties: z.number(),
          waiting: z.number(),
          trouble: z.boolean(),
          /** Everything that changed there before is known; null where it was never read. */
          knownAt: time.nullable(),
        }),
      ),
      /** Whether changes of a member are unknown for longer than they may be. */
      isLate: z.boolean(),
      lastRun: runSchema.nullable(),
      openRun: runSchema.nullable(),
      /** When it runs by its timing next; null where no time is set, or nothing may run. */
      nextAt: time.nullable(),
      /** When it is tried again what the last run could not do; null where there is nothing. */
      retryAt: time.nullable(),
      /** How often that was tried by then: the run itself, and what was tried again. */
      attempts: z.number(),
    }),
  ),
  systems: z.array(
    systemSummarySchema.extend({
      /** Calls of this day (UTC), where only so many may be made; and when there are none left at this rate. */
      calls: z.object({ used: z.number(), perDay: z.number(), emptyAt: time.nullable() }).nullable(),
    }),
  ),
  waiting: z.array(
    z.object({ knot: z.string(), kind: decisionKindSchema, count: z.number(), example: z.string(), since: time }),
  ),
  written: z.array(z.object({ hour: time, values: z.number() })),
  /** The last 30 days (UTC) of all knots, today the last: runs, and records that were written or not taken. */
  days: z.array(
    z.object({
      day: z.iso.date(),
      runs: z.number(),
      /** Runs that did not succeed wholly. */
      troubled: z.number(),
      written: z.number(),
      failed: z.number(),
    }),
  ),
  lastRuns: z.array(runSchema),
});
export type Watch = z.output<typeof watchSchema>;
