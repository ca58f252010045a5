import { z } from 'zod';
import { knotDraftSchema } from '../knotFile.js';
import { json, time } from './json.js';
import { memberSummarySchema } from './members.js';
import { runSchema } from './runs.js';

/** Whether a knot runs. A paused one is taken up again later; an ended one is kept for its history. */
export const knotStateSchema = z.enum(['running', 'paused', 'ended']);
export type KnotState = z.output<typeof knotStateSchema>;
export const knotStandingSchema = z.object({
  state: knotStateSchema,
  /** Who said so, and when; null where nobody has. */
  by: z.string().nullable(),
  at: time.nullable(),
  /** When it runs again by itself; null where it does not. */
  until: time.nullable(),
  /** It was paused with all others, and is taken up with them. */
  pausedTogether: z.boolean(),
});
export type KnotStanding = z.output<typeof knotStandingSchema>;

export const knotViewSchema = z.object({
  id: z.string(),
  name: z.string(),
  thing: z.string(),
  /** The one in force; 0 as long as none was. */
  version: z.number(),
  definition: knotDraftSchema,
  members: z.array(memberSummarySchema.extend({ ties: z.number() })),
  versions: z.array(z.object({ version: z.number(), note: z.string(), madeBy: z.string(), madeAt: time })),
  anchors: z.number(),
  agree: z.number(),
  lastRun: runSchema.nullable(),
  openRun: runSchema.nullable(),
  decisions: z.number(),
  standing: knotStandingSchema,
});
export type KnotView = z.output<typeof knotViewSchema>;
/** `draft`: the revision of the draft as it was seen; 0 when there was none. */
export const definitionChangeSchema = z.object({
  definition: json,
  basedOn: z.int().min(0),
  draft: z.int().min(0).default(0),
  note: z.string().max(1000).default(''),
});
