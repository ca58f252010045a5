import { z } from 'zod';

/** A thing of a knot in the place of a value: what a field that refers to something holds, with its name. */
export const thingSchema = z.object({ $thing: z.uuid(), knot: z.string(), title: z.string() });
export type Thing = z.output<typeof thingSchema>;

/** Whether a value is a thing; `undefined` for any other. */
export function thingOf(value: unknown): Thing | undefined {
  const parsed = thingSchema.safeParse(value);
  return parsed.success ? parsed.data : undefined;
}

export const waySchema = z.union([z.object({ member: z.string() }), z.object({ field: z.string() })]);
const asked = z.record(z.string(), z.array(z.string().max(1000)).max(500));

/** What is to be looked up in a knot: keys by member, and values by shared field. */
export const lookUpRequestSchema = z.object({ keys: asked, values: asked });
export type LookUpRequest = z.output<typeof lookUpRequestSchema>;
/** The things that were found, and by what each of them is known, in every way in which things are referred to. */
export const lookUpAnswerSchema = z.object({
  names: z.array(
    z.object({
      knot: z.string(),
      by: waySchema,
      value: z.string(),
      anchor: z.string(),
      isGone: z.boolean().optional(),
    }),
  ),
  /** What somebody has said of values that nothing is known by. */
  substitutes: z.array(
    z.object({
      knot: z.string(),
      by: waySchema,
      of: z.union([z.object({ value: z.string() }), z.object({ anchor: z.string() })]),
      stands: z.string().nullable(),
    }),
  ),
  things: z.array(thingSchema),
});
export type LookUpAnswer = z.output<typeof lookUpAnswerSchema>;
