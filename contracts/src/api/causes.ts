import { z } from 'zod';
import { json } from './json.js';

/** Who gave a value. */
export const giverSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('member'), member: z.string() }),
  z.object({ kind: z.literal('person'), name: z.string() }),
  z.object({ kind: z.literal('formula') }),
  z.object({ kind: z.literal('series') }),
]);
export type GiverView = z.output<typeof giverSchema>;

/** A value that lost; without a member where it is what was agreed before. */
const lost = z.object({ member: z.string().optional(), value: json.nullable() });

/** Why a value is what it is, or why a record belongs to a thing. */
export const causeSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('edit'), members: z.array(z.string()) }),
  z.object({
    kind: z.literal('rule'),
    rule: z.string(),
    members: z.array(z.string()),
    over: z.array(lost).default([]),
  }),
  z.object({ kind: z.literal('combined'), rule: z.string(), members: z.array(z.string()) }),
  z.object({ kind: z.literal('person'), name: z.string(), over: z.array(lost).default([]) }),
  z.object({ kind: z.literal('equal'), members: z.array(z.string()) }),
  z.object({ kind: z.literal('deleted'), member: z.string() }),
  z.object({ kind: z.literal('referred gone'), field: z.string() }),
  z.object({ kind: z.literal('reference'), member: z.string() }),
  z.object({ kind: z.literal('number'), series: z.string() }),
  z.object({ kind: z.literal('formula'), of: z.array(z.string()) }),
  z.object({
    kind: z.literal('outcome'),
    member: z.string(),
    state: z.enum(['done', 'failed', 'pending']),
    words: z.string().optional(),
  }),
  z.object({ kind: z.literal('verdict') }),
  z.object({ kind: z.literal('key rule'), rule: z.string() }),
  z.object({
    kind: z.literal('evidence'),
    with: z.object({ member: z.string(), key: z.string() }),
    bits: z.number(),
  }),
]);
export type CauseView = z.output<typeof causeSchema>;
