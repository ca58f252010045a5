import { z } from 'zod';
import { time } from './json.js';

const zone = z.string().refine((name) => {
  try {
    return new Intl.DateTimeFormat('en', { timeZone: name }).resolvedOptions().timeZone !== '';
  } catch {
    return false;
  }
}, 'there is no time zone of that name');

/** Most digits that a number has: more could not be counted exactly. */
export const mostSeriesDigits = 12;
export const seriesSchema = z.object({
  name: z.string().trim().min(1, 'say what it is called').max(100),
  prefix: z
    .string()
    .max(20)
    .regex(/^[^\p{C}]*$/u, 'characters that cannot be seen are of no use here'),
  digits: z.int().min(1, 'at least one').max(mostSeriesDigits, `at most ${mostSeriesDigits}`),
  yearly: z.boolean(),
  zone,
});

export const seriesIdSchema = z.string().regex(/^[\w-]{1,60}$/, 'letters, digits and hyphens');
export const keepSeriesSchema = z.object({
  series: seriesSchema,
  /** What number comes next; left as it is, when left out. */
  next: z.int().min(1).optional(),
  /** The revision that was seen; 0 for a new one. */
  revision: z.int().min(0),
});
export type KeepSeries = z.output<typeof keepSeriesSchema>;

export const seriesViewSchema = z.object({
  id: z.string(),
  series: seriesSchema,
  revision: z.number(),
  /** The next number, and how systems would be told of it; null at the last one. */
  next: z.number(),
  nextText: z.string().nullable(),
  given: z.number(),
  /** Fields that take their numbers from it, in versions in force. */
  usedBy: z.array(z.object({ knot: z.string(), knotName: z.string(), field: z.string(), fieldName: z.string() })),
  madeBy: z.string(),
});
export type SeriesView = z.output<typeof seriesViewSchema>;
export const seriesListSchema = z.object({ series: z.array(seriesViewSchema) });

/** Numbers that were given, and numbers before the next one that were not. */
export const givenNumbersSchema = z.object({
  given: z.array(
    z.object({
      text: z.string(),
      knot: z.string(),
      /** Null where a system had it before: no thing was given it here. */
      thing: z.object({ anchor: z.string(), title: z.string() }).nullable(),
      at: time,
    }),
  ),
  total: z.number(),
  gaps: z.array(z.object({ from: z.string(), to: z.string(), count: z.number() })),
  gapTotal: z.number(),
});
export type GivenNumbers = z.output<typeof givenNumbersSchema>;
