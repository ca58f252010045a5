import { z } from 'zod';
import { causeSchema } from './causes.js';
import { json, time } from './json.js';

const common = { id: z.string(), run: z.string().nullable(), at: time };
const record = { member: z.string(), key: z.string().nullable() };
const why = { cause: causeSchema.nullable() };
const written = {
  ...common,
  ...record,
  ...why,
  field: z.string(),
  before: json.nullable(),
  after: json.nullable(),
  meaning: json.nullable(),
};

/** What happened to a thing: what was written, lost, chosen, tied, untied or found gone. */
export const journalEntrySchema = z.discriminatedUnion('kind', [
  z.object({ ...written, kind: z.literal('create') }),
  z.object({ ...written, kind: z.literal('update') }),
  z.object({ ...common, ...record, ...why, kind: z.literal('archive') }),
  z.object({ ...common, ...record, ...why, kind: z.literal('delete') }),
  z.object({ ...common, ...record, ...why, kind: z.literal('write back') }),
  z.object({ ...common, ...record, ...why, kind: z.literal('tied') }),
  z.object({ ...common, ...record, ...why, kind: z.literal('untied') }),
  z.object({ ...common, ...record, kind: z.literal('gone') }),
  /** Without a member where what was agreed before lost. */
  z.object({
    ...common,
    ...why,
    kind: z.literal('lost'),
    member: z.string().nullable(),
    field: z.string(),
    meaning: json.nullable(),
  }),
  z.object({ ...common, ...why, kind: z.literal('chosen'), field: z.string(), meaning: json.nullable() }),
]);
export type JournalEntry = z.output<typeof journalEntrySchema>;
export type JournalKind = JournalEntry['kind'];
