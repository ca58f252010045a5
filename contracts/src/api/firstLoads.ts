import { z } from 'zod';
import { memberSummarySchema } from './members.js';
import { knotStateSchema } from './knots.js';
import { runSchema } from './runs.js';

/** A member, and in which directions values go. */
const firstLoadMemberSchema = memberSummarySchema.extend({
  /** Whether a shared field takes values from it, and whether one is written there. */
  gives: z.boolean(),
  takes: z.boolean(),
  may: z.array(z.enum(['create', 'update', 'archive', 'delete'])),
});
export type FirstLoadMember = z.output<typeof firstLoadMemberSchema>;

/** One step of setting everything up: a knot, what it comes after, and how far it is. */
export const firstLoadSchema = z.object({
  knot: z.string(),
  name: z.string(),
  state: knotStateSchema,
  /** The knots whose things it refers to, that come before it. */
  after: z.array(z.string()),
  members: z.array(firstLoadMemberSchema),
  /** The last dry run of the version in force; null where there was none. */
  dryRun: runSchema.nullable(),
  lastRun: runSchema.nullable(),
  /** The first run that came to its end, with which it was loaded; null as long as it is not. */
  firstRun: runSchema.nullable(),
  openRun: runSchema.nullable(),
  anchors: z.number(),
  agree: z.number(),
  decisions: z.number(),
  /** It runs only when somebody starts it. */
  isByHand: z.boolean(),
});
export type FirstLoad = z.output<typeof firstLoadSchema>;

/** Knots in force in the order in which they are loaded, and those that are only drafts. */
export const firstLoadsSchema = z.object({
  steps: z.array(firstLoadSchema),
  drafts: z.array(z.object({ knot: z.string(), name: z.string() })),
});
export type FirstLoads = z.output<typeof firstLoadsSchema>;
