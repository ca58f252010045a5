import { z } from 'zod';
import { causeSchema, giverSchema } from './causes.js';
import { json, time } from './json.js';
import { memberSummarySchema } from './members.js';

/** How many records of a member are in which list; each record that was read is in exactly one. */
export const memberAccountSchema = z.object({
  tied: z.number(),
  waiting: z.number(),
  rejected: z.number(),
  aside: z.number(),
  untied: z.number(),
  filtered: z.number(),
});
export type MemberAccount = z.output<typeof memberAccountSchema>;

const memberTallySchema = z.object({
  read: z.number(),
  create: z.number(),
  update: z.number(),
  /** Runs of earlier versions did not count these. */
  archive: z.number().default(0),
  delete: z.number().default(0),
  'write back': z.number().default(0),
  leftAlone: z.number(),
  held: z.number(),
  rejected: z.number(),
  waiting: z.number(),
  /** In which list each of the member's records is; runs of old do not say. */
  accounts: memberAccountSchema.optional(),
  written: z.number(),
  failed: z.number(),
});
export type MemberTally = z.output<typeof memberTallySchema>;
const phaseSchema = z.enum(['resolving', 'reading', 'matching', 'planning', 'writing', 'done']);
const callCountSchema = z.object({ count: z.number(), failed: z.number(), ms: z.number(), longestMs: z.number() });
/** A page of a listing, one record by its key, records by a value, or a batch of writes. */
export const callKindSchema = z.enum(['page', 'record', 'search', 'write']);
export type CallKind = z.output<typeof callKindSchema>;
export const progressSchema = z.object({
  phase: phaseSchema,
  done: z.number(),
  total: z.number().optional(),
  tally: z.record(z.string(), memberTallySchema),
  /** What was done so far, in order, and how long it took; runs of earlier versions do not say. */
  steps: z.array(z.object({ phase: phaseSchema, ms: z.number() })).optional(),
  /** What was asked of each member's system. Several calls go on at once: their times overlap. */
  calls: z.record(z.string(), z.partialRecord(callKindSchema, callCountSchema)).optional(),
});
export const troubleSchema = z.object({ member: z.string(), code: z.string(), words: z.string(), advice: z.string() });
export type Trouble = z.output<typeof troubleSchema>;

export const runStates = [
  'waiting',
  'running',
  'succeeded',
  'succeeded in part',
  'stopped by a guard',
  'stopped by a check',
  'stopped',
  'failed',
  'missed',
] as const;
/**
 * Who or what started a run: somebody, a slot of its timing, what a system told, what it is asked now and then, what an
 * earlier run could not do, or another program.
 */
export const runCauseSchema = z.enum(['person', 'schedule', 'event', 'asking', 'retry', 'call', 'release']);
export type RunCause = z.output<typeof runCauseSchema>;
export const runSchema = z.object({
  id: z.string(),
  knot: z.string(),
  knotVersion: z.number(),
  kind: z.enum(['run', 'dry run']),
  /** Empty where nobody did. */
  startedBy: z.string(),
  cause: runCauseSchema,
  startedAt: time,
  endedAt: time.nullable(),
  state: z.enum(runStates),
  progress: progressSchema.nullable(),
  troubles: z.array(troubleSchema),
  guards: z.array(z.object({ member: z.string(), says: z.string() })),
  words: z.string().nullable(),
});
export type Run = z.output<typeof runSchema>;
/** More of a member are found sooner by asking it for what changed. */
export const mostNamedRecords = 500;
export const startRunSchema = z.object({
  kind: z.enum(['run', 'dry run']),
  /** All records are listed, also where what changed could be asked for. */
  full: z.boolean().default(false),
  /** Only these are read; all of them when left out. */
  members: z.array(z.string()).min(1).optional(),
  /** Only these records are read; where members are named too, these beside them. */
  records: z
    .array(z.object({ member: z.string(), key: z.string().min(1).max(1000) }))
    .min(1)
    .max(mostNamedRecords)
    .optional(),
  overGuards: z.boolean().default(false),
});
/** Of all knots that run, or of some of them. */
export const startTogetherSchema = z.object({
  kind: z.enum(['run', 'dry run']),
  knots: z.array(z.string()).min(1).max(1000).optional(),
});
export const startedRunSchema = z.object({ run: z.string() });
/** Runs in the order in which they go, each with the knots that it waits for. */
export const startedTogetherSchema = z.object({
  runs: z.array(z.object({ knot: z.string(), run: z.string(), after: z.array(z.string()) })),
});
export type StartedTogether = z.output<typeof startedTogetherSchema>;
export const runListSchema = z.object({ runs: z.array(runSchema), next: z.string().nullable() });

export const operationSchema = z.object({
  id: z.string(),
  anchor: z.string(),
  title: z.string(),
  member: z.string(),
  kind: z.enum(['create', 'update', 'archive', 'delete', 'write back']),
  key: z.string().nullable(),
  state: z.string(),
  words: z.string().nullable(),
  changes: z.array(
    z.object({
      field: z.string(),
      path: z.string(),
      before: json.optional(),
      after: json,
      meaning: json.nullable(),
      by: giverSchema,
      why: causeSchema,
    }),
  ),
});
export type PlannedOperation = z.output<typeof operationSchema>;
export const operationListSchema = z.object({
  operations: z.array(operationSchema),
  next: z.string().nullable(),
  total: z.number(),
});
export type OperationList = z.output<typeof operationListSchema>;
export const runViewSchema = z.object({
  run: runSchema,
  knotName: z.string(),
  thing: z.string(),
  members: z.array(memberSummarySchema),
  fields: z.array(z.object({ id: z.string(), name: z.string() })),
});
export type RunView = z.output<typeof runViewSchema>;
