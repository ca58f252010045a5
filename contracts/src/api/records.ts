import { z } from 'zod';
import { memberAccountSchema } from './runs.js';

/** Records of a knot's members, by the list that each of them is in. */

/** Each record is in one of these; those that are tied may be in the last one besides. */
export const recordListNames = ['waiting', 'rejected', 'aside', 'untied', 'filtered', 'unacknowledged'] as const;
export const recordListSchema = z.enum(recordListNames);
export type RecordListName = z.output<typeof recordListSchema>;

export const accountsSchema = z.object({
  members: z.array(
    z.object({
      member: z.string(),
      account: memberAccountSchema,
      total: z.number(),
      /** Tied records of which the system has not acknowledged what was written, where it says so later. */
      unacknowledged: z.object({ count: z.number(), late: z.number() }),
    }),
  ),
});
export type Accounts = z.output<typeof accountsSchema>;

export const listedRecordSchema = z.object({
  key: z.string(),
  title: z.string(),
  /** Why it is in this list, in words. */
  why: z.string(),
  /** The thing that it is tied to. */
  anchor: z.string().nullable(),
});
export type ListedRecord = z.output<typeof listedRecordSchema>;

export const listedRecordsSchema = z.object({
  records: z.array(listedRecordSchema),
  /** The key after which the next page begins. */
  next: z.string().nullable(),
});
export type ListedRecords = z.output<typeof listedRecordsSchema>;

/** What a person does with a record that is tied to nothing. */
export const recordActSchema = z.object({
  act: z.enum(['start', 'set aside', 'take back']),
});
export type RecordAct = z.output<typeof recordActSchema>;
