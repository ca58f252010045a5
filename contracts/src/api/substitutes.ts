import { z } from 'zod';
import { time } from './json.js';
import { thingSchema, waySchema } from './things.js';

/** What is to stand for a value that nothing is known by, or for a thing that a system cannot be told. */
export const substituteRequestSchema = z
  .object({
    by: waySchema,
    /** One of the two: what a system says, or the thing that has no name there. */
    value: z.string().min(1).max(1000).nullable(),
    thing: z.uuid().nullable(),
    /** The thing that stands for it; null: nobody. */
    stands: z.uuid().nullable(),
  })
  .refine(({ value, thing }) => (value === null) !== (thing === null), 'say a value or a thing')
  .refine(({ value, stands }) => value !== null || stands !== null, 'a thing can only be told as another one');
export type SubstituteRequest = z.output<typeof substituteRequestSchema>;

/** What was said, and the knots whose waiting records go on by it. */
export const saidSubstituteSchema = z.object({ id: z.string(), runs: z.array(z.string()) });
export type SaidSubstitute = z.output<typeof saidSubstituteSchema>;

export const substituteSchema = z.object({
  id: z.string(),
  knot: z.string(),
  knotName: z.string(),
  by: waySchema,
  /** How it is referred to, in words. */
  way: z.string(),
  /** A value, or a thing; null where the thing is gone. */
  of: z.union([z.string(), thingSchema]).nullable(),
  ofKind: z.enum(['value', 'thing']),
  /** What stands for it; null where that is gone, or where it means nobody. */
  stands: thingSchema.nullable(),
  meansNobody: z.boolean(),
  saidBy: z.string(),
  saidAt: time,
});
export type SubstituteView = z.output<typeof substituteSchema>;
export const substituteListSchema = z.object({ substitutes: z.array(substituteSchema), total: z.number() });
export type SubstituteList = z.output<typeof substituteListSchema>;
