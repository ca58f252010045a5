import { z } from 'zod';
import { causeSchema, giverSchema } from './causes.js';
import { decisionSchema } from './decisions.js';
import { journalEntrySchema } from './journal.js';
import { json, time } from './json.js';
import { memberSummarySchema } from './members.js';

export const anchorListSchema = z.object({
  anchors: z.array(
    z.object({
      id: z.string(),
      title: z.string(),
      agrees: z.boolean(),
      ties: z.array(z.object({ member: z.string(), key: z.string(), gone: z.boolean() })),
      decisions: z.number(),
      changedAt: time,
    }),
  ),
  next: z.string().nullable(),
  total: z.number(),
  /** There are more than are counted. */
  isMore: z.boolean(),
});
export type AnchorList = z.output<typeof anchorListSchema>;

/** Anchors of any knot that were found by a part of a text. */
export const foundAnchorsSchema = z.object({
  anchors: z.array(z.object({ id: z.string(), title: z.string(), knotName: z.string(), keys: z.array(z.string()) })),
});
export type FoundAnchors = z.output<typeof foundAnchorsSchema>;

/** One member's say on one field of an anchor. */
export const cellSchema = z.object({
  state: z.enum(['agrees', 'differs', 'ahead', 'unreadable', 'rejected', 'not sent', 'no mapping']),
  raw: json.nullable(),
  meaning: json.nullable(),
  reason: z.string().nullable(),
  direction: z.enum(['from', 'to', 'both ways']).nullable(),
  path: z.string().nullable(),
});
export type Cell = z.output<typeof cellSchema>;
export const tieSchema = z.object({
  member: z.string().min(1).max(40),
  key: z.string().trim().min(1, 'give the key of the record').max(500),
});
/** Records of some members become a thing of their own; or another anchor's records come to this one. */
const regroupings = [
  z.object({
    kind: z.literal('split'),
    members: z.array(z.string().min(1).max(40)).min(1, 'choose at least one record').max(20),
  }),
  z.object({ kind: z.literal('merge'), with: z.uuid() }),
] as const;
export const regroupSchema = z.discriminatedUnion('kind', regroupings);
export type Regroup = z.output<typeof regroupSchema>;
export const forecastRequestSchema = z.discriminatedUnion('kind', [
  ...regroupings,
  tieSchema.extend({ kind: z.literal('tie') }),
]);
export type ForecastRequest = z.output<typeof forecastRequestSchema>;
/** What the next run would do with each of the anchors that there would be. */
export const forecastSchema = z.object({
  anchors: z.array(
    z.object({
      title: z.string(),
      records: z.array(z.object({ member: z.string(), key: z.string() })),
      /** No record of it may start a thing: it would be kept out. */
      keptOut: z.boolean(),
      operations: z.array(
        z.object({
          member: z.string(),
          kind: z.enum(['create', 'update', 'archive', 'delete', 'write back']),
          key: z.string().nullable(),
          changes: z.array(z.object({ field: z.string(), before: json.nullable(), after: json.nullable() })),
        }),
      ),
      /** Fields that a person would have to settle. */
      held: z.array(z.string()),
    }),
  ),
});
export type Forecast = z.output<typeof forecastSchema>;
export const anchorViewSchema = z.object({
  id: z.string(),
  knot: z.string(),
  knotName: z.string(),
  thing: z.string(),
  title: z.string(),
  agrees: z.boolean(),
  members: z.array(
    memberSummarySchema.extend({
      key: z.string().nullable(),
      gone: z.boolean(),
      rejected: z.array(z.string()),
      parked: z.string().nullable(),
      /** Since when its system has not acknowledged what was written there. */
      unacknowledgedSince: time.nullable(),
      /** What the record was told of other members. */
      told: z.array(
        z.object({
          of: z.string(),
          state: z.enum(['done', 'failed', 'pending']),
          words: z.string().nullable(),
          at: time,
          refused: z.string().nullable(),
        }),
      ),
    }),
  ),
  fields: z.array(
    z.object({
      id: z.string(),
      name: z.string(),
      type: z.string(),
      agreed: z.object({ value: json.nullable(), by: giverSchema, at: time, why: causeSchema }).nullable(),
      cells: z.record(z.string(), cellSchema),
    }),
  ),
  decisions: z.array(decisionSchema),
  journal: z.array(journalEntrySchema),
  /** What refers to it, by knot: how much, and the first of it. */
  referring: z.array(
    z.object({
      knot: z.string(),
      knotName: z.string(),
      count: z.number(),
      /** They are rows of its records: the lines of an order. */
      isRows: z.boolean(),
      first: z.array(z.object({ id: z.string(), title: z.string() })),
    }),
  ),
});
/** Things of a knot that refer to an anchor, each with what all systems say of it; without their histories. */
export const anchorRowsSchema = z.object({ total: z.number(), rows: z.array(anchorViewSchema) });
export type AnchorRows = z.output<typeof anchorRowsSchema>;
export type AnchorView = z.output<typeof anchorViewSchema>;
