import { z } from 'zod';
import { time } from './json.js';

/** What may have become of a record in a member, that somebody is told of. */
export const followedOutcomes = ['created', 'updated', 'removed', 'refused'] as const;
export type FollowedOutcome = (typeof followedOutcomes)[number];

/** After a record was written, or refused, in a member: a mail about that record. */
export const followUpSchema = z
  .object({
    name: z.string().trim().min(1).max(100),
    isOn: z.boolean(),
    knot: z.string().min(1),
    member: z.string().min(1),
    outcomes: z.array(z.enum(followedOutcomes)).min(1, 'must name something to tell of'),
    addresses: z.array(z.email().max(320)).max(20),
    /** A shared field that holds the address of whom to tell. */
    addressField: z.string().min(1).nullable(),
    /** Liquid templates over the record's fields and what became of it. */
    subject: z.string().trim().min(1).max(300),
    text: z.string().trim().min(1).max(10_000),
    /** Of more that a run writes, one mail tells, with where they are listed. */
    mostPerHour: z.int().min(1).max(1000),
  })
  .refine(({ addresses, addressField }) => addresses.length > 0 || addressField !== null, {
    path: ['addresses'],
    message: 'must name somebody to tell',
  });
export type FollowUp = z.output<typeof followUpSchema>;

export const keptFollowUpSchema = z.object({
  id: z.string(),
  followUp: followUpSchema,
  revision: z.number(),
  changedBy: z.string(),
  changedAt: time,
});
export type KeptFollowUp = z.output<typeof keptFollowUpSchema>;
export const followUpListSchema = z.object({
  followUps: z.array(keptFollowUpSchema),
  /** Why no mail can be sent; null where it can. */
  noMail: z.string().nullable(),
});
export type FollowUpList = z.output<typeof followUpListSchema>;
/** `revision`: as it was seen; 0 for a new one. */
export const keepFollowUpSchema = z.object({ followUp: followUpSchema, revision: z.int().min(0) });
export const followUpRevisionSchema = z.object({ revision: z.number() });

/** What a mail would be, with a record of the knot. */
export const followUpPreviewSchema = z.object({
  subject: z.string(),
  text: z.string(),
  /** What the record is called. */
  title: z.string(),
  to: z.array(z.string()),
});
export type FollowUpPreview = z.output<typeof followUpPreviewSchema>;

/** What templates can name besides the fields, which are `fields.` and their name in formulas. */
export const templateNames = {
  title: 'what the thing is called',
  outcome: 'created, updated, removed or refused',
  words: 'what the system said when it refused',
  knot: 'the knot',
  system: 'the system that was written to',
  key: 'the key of the record there',
  page: 'where the record is seen there',
  here: 'where the thing is seen here',
} as const;
