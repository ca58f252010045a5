import { z } from 'zod';
import type { Timing } from '@anchor-knot/core';
import { time } from './json.js';
import { memberSummarySchema } from './members.js';

const clockTime = z.string().max(5);
const localDay = z.string().max(10);
const longestExpression = 200;
const mostTimes = 48;
/** A system may be asked so often, in seconds: as often as is of any use, and at least once a day. */
export const askingSeconds = { least: 5, most: 86_400 } as const;
/** A knot may be a year late before that is said. */
export const mostLateMinutes = 527_040;
/** A knot waits for so many others at most. */
const mostPrevious = 20;
const seconds = z.int().min(askingSeconds.least).max(askingSeconds.most);

const repeatedSchema = z.object({
  kind: z.literal('every'),
  every: z.int().min(1).max(10_000),
  unit: z.enum(['minutes', 'hours']),
  between: z.tuple([clockTime, clockTime]).readonly().optional(),
});
const onDaysSchema = z.object({
  kind: z.literal('days'),
  on: z.discriminatedUnion('kind', [
    z.object({ kind: z.literal('every'), days: z.int().min(1).max(366) }),
    z.object({ kind: z.literal('of the week'), days: z.array(z.int().min(1).max(7)).max(7).readonly() }),
    z.object({
      kind: z.literal('of the month'),
      days: z
        .array(z.union([z.int().min(1).max(31), z.literal('last')]))
        .max(32)
        .readonly(),
    }),
  ]),
  at: z.array(clockTime).max(mostTimes).readonly(),
});
const cronSchema = z.object({ kind: z.literal('cron'), expression: z.string().max(longestExpression) });

export const timingSchema = z.object({
  zone: z.string().min(1).max(60),
  firstDay: localDay.optional(),
  lastDay: localDay.optional(),
  regular: z.discriminatedUnion('kind', [repeatedSchema, onDaysSchema, cronSchema]).optional(),
  complete: onDaysSchema.optional(),
  lateAfterMinutes: z.int().min(1).max(mostLateMinutes).optional(),
  quiet: z
    .object({
      between: z.tuple([clockTime, clockTime]).readonly(),
      days: z.array(z.int().min(1).max(7)).max(7).readonly().optional(),
    })
    .optional(),
  after: z.array(z.string()).max(mostPrevious).readonly().optional(),
  callShare: z.int().min(1).max(100).optional(),
  rank: z.enum(['first', 'last']).optional(),
  triggers: z.record(
    z.string(),
    z.discriminatedUnion('kind', [
      z.object({ kind: z.literal('events'), otherwiseSeconds: seconds }),
      z.object({ kind: z.literal('asking'), seconds }),
    ]),
  ),
}) satisfies z.ZodType<Timing>;

/** `revision`: of the timing as it was seen; 0 when there was none. */
export const keepTimingSchema = z.object({ timing: timingSchema, revision: z.int().min(0) });
export type KeepTiming = z.output<typeof keepTimingSchema>;

export const timingViewSchema = z.object({
  timing: timingSchema,
  revision: z.number(),
  changedBy: z.string().nullable(),
  changedAt: time.nullable(),
  /** Nothing runs by itself before somebody has seen one run to its end. */
  hasRun: z.boolean(),
  /** The other knots that run, which it may wait for. */
  others: z.array(z.object({ id: z.string(), name: z.string() })),
  members: z.array(
    memberSummarySchema.extend({
      /** Whether its system can tell of changes in this object; where not, it can only be asked. */
      tells: z.boolean(),
      /** Whether it is looked at before it is asked: nothing is run where nothing has come. */
      isLookedAt: z.boolean(),
      /** Whether it can say what changed; where not, asking lists all there is. */
      saysChanges: z.boolean(),
      /** How its subscription stands; null where there is none. */
      subscription: z.object({ state: z.string(), words: z.string().nullable(), lastAt: time.nullable() }).nullable(),
      /** Up to when it was read; null where it never was. */
      readAt: time.nullable(),
    }),
  ),
});
export type TimingView = z.output<typeof timingViewSchema>;
export const keptTimingSchema = z.object({ revision: z.number() });
