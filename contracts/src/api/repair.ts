import { z } from 'zod';
import { decisionKindSchema } from './decisions.js';
import { time } from './json.js';
import { memberSummarySchema } from './members.js';

/** What failed in the same way: the same kind of thing, in the same member and field, for the same reason. */
export const groupNameSchema = z.object({
  knot: z.string(),
  kind: decisionKindSchema,
  member: z.string(),
  field: z.string().nullable(),
  reason: z.string().max(4000),
});
export type GroupName = z.output<typeof groupNameSchema>;

export const failureGroupSchema = groupNameSchema.extend({
  knotName: z.string(),
  system: memberSummarySchema.nullable(),
  fieldName: z.string().nullable(),
  count: z.number(),
  firstAt: time,
  latestAt: time,
  /** How often the one that was tried most was tried; 0 where nothing is tried before something is corrected. */
  attempts: z.number(),
  /** One of them, and what it would be decided on. */
  decision: z.string(),
  fingerprint: z.string(),
  /** Whether it can be tried again as it is; else something has to be corrected first. */
  canTryAgain: z.boolean(),
  /** Whether its records can be corrected in a file that is taken in again. */
  canCorrect: z.boolean(),
});
export type FailureGroup = z.output<typeof failureGroupSchema>;
export const repairSchema = z.object({ groups: z.array(failureGroupSchema), mostGroups: z.number() });
export type Repair = z.output<typeof repairSchema>;

/** Columns of the file in which records are corrected. */
export const repairColumns = [
  'decision',
  'record',
  'thing',
  'field',
  'value there',
  'what is wrong',
  'corrected value',
] as const;
/** More are corrected file by file. */
export const mostInFile = 500;
export const takenInSchema = z.object({
  corrected: z.number(),
  /** Rows that were left as they were: nothing was put into them. */
  untouched: z.number(),
  refused: z.array(z.object({ row: z.number(), record: z.string(), says: z.string() })),
});
export type TakenIn = z.output<typeof takenInSchema>;
