import type { ComparisonKind } from '@anchor-knot/core';
import { z } from 'zod';

const comparisons = [
  'exact',
  'code',
  'person name',
  'company name',
  'phone',
  'email',
  'address',
  'date',
  'number',
  'text',
] as const satisfies readonly ComparisonKind[];
export const comparisonSchema = z.enum(comparisons);
const columns = z.union([
  z
    .string()
    .min(1)
    .transform((one) => [one]),
  z.array(z.string().min(1)).min(1).max(8),
]);

/**
 * How two lists are matched, as a file: which columns are compared and how. What is left out is recognised or learned.
 */
export const matchRulesSchema = z.strictObject({
  /** The columns that tell records of a list apart. */
  keys: z.strictObject({ left: z.string().optional(), right: z.string().optional() }).default({}),
  /**
   * Several columns are compared as one text. `others` are those of the third list and the ones after it; where it is
   * left out they are called as in the second.
   */
  fields: z
    .array(
      z.strictObject({
        name: z.string().min(1).max(100).optional(),
        left: columns,
        right: columns.optional(),
        others: z.array(columns).max(18).optional(),
        compare: comparisonSchema,
      }),
    )
    .min(1)
    .max(20)
    .optional(),
  /** In bits: a pair is tied from `upper` on, and asked about from `lower` on. */
  thresholds: z
    .strictObject({ upper: z.number(), lower: z.number() })
    .refine(({ upper, lower }) => lower <= upper, 'lower may not be above upper')
    .optional(),
});
export type MatchRules = z.output<typeof matchRulesSchema>;
