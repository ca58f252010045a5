import { z } from 'zod';
import { json, time } from './json.js';
import { memberSummarySchema } from './members.js';

/** A record with what it is called. */
export const namedRecordSchema = z.object({
  member: z.string(),
  key: z.string(),
  title: z.string(),
  anchor: z.string().nullable(),
});
export type NamedRecord = z.output<typeof namedRecordSchema>;
/** The records that a decision on a match is about, side by side. */
export const matchRecordsSchema = z.object({
  records: z.array(
    namedRecordSchema.extend({
      /** Which candidate it belongs to; null for what is asked about. */ candidate: z.number().nullable(),
    }),
  ),
  /** By record, in their order. */
  fields: z.array(z.object({ id: z.string(), name: z.string(), values: z.array(json.nullable()) })),
  /** What each key rule says of the first two. */
  rules: z.array(z.object({ name: z.string(), says: z.enum(['the same', 'differs', 'missing']) })),
});
export type MatchRecords = z.output<typeof matchRecordsSchema>;

/** Records of one system that seem to be one thing, and those that were set aside. */
export const duplicateListSchema = z.object({
  groups: z.array(
    z.object({
      decision: z.string(),
      fingerprint: z.string(),
      member: z.string(),
      says: z.string(),
      anchor: z.string().nullable(),
      title: z.string().nullable(),
      tiedKey: z.string().nullable(),
      records: z.array(namedRecordSchema),
      openedAt: time,
    }),
  ),
  next: z.string().nullable(),
  total: z.number(),
  setAside: z.array(namedRecordSchema.extend({ person: z.string().nullable(), at: time.nullable() })),
  setAsideTotal: z.number(),
  members: z.array(memberSummarySchema),
});
export type DuplicateList = z.output<typeof duplicateListSchema>;
export const verdictListSchema = z.object({
  verdicts: z.array(
    z.object({
      id: z.string(),
      a: namedRecordSchema,
      b: namedRecordSchema,
      same: z.boolean(),
      person: z.string(),
      at: time,
    }),
  ),
  next: z.string().nullable(),
  total: z.number(),
  members: z.array(memberSummarySchema),
});
export type VerdictList = z.output<typeof verdictListSchema>;
