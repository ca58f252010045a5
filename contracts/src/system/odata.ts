import { z } from 'zod';
import { objectPages, systemPages } from './pages.js';
import { callBudgetSchema, systemSignInSchema } from './signIn.js';
import { systemTimesSchema } from './times.js';

const property = z.string().min(1).max(200);

/**
 * An entity set of an OData v4 service (OASIS, OData Version 4.01). What its properties are, the service's `$metadata`
 * says.
 */
export const odataObjectSchema = z.strictObject({
  entitySet: property,
  /** The property that is its key; entities with a key of several properties cannot be tied yet. */
  key: property,
  /** A property with the time of the last change: what changed since is asked for by `$filter`. */
  modifiedAt: property.optional(),
  /** Properties by which entities may be searched. */
  search: z.array(property).default([]),
  mayCreate: z.boolean().default(false),
  mayUpdate: z.boolean().default(false),
  mayDelete: z.boolean().default(false),
  ...objectPages,
});

export const odataSystemSchema = z.strictObject({
  kind: z.literal('odata'),
  name: z.string().min(1).max(200),
  /** The service root. */
  address: z.url({ protocol: /^https?$/ }),
  signIn: systemSignInSchema,
  timeoutMs: z.int().min(100).max(300_000).default(15_000),
  budget: callBudgetSchema.optional(),
  /** Entities that are asked for in one page; the service may give fewer. */
  pageSize: z.int().min(1).max(10_000).default(500),
  /**
   * Writes are gathered in JSON batches (OData JSON Format 4.01 section 19) of at most so many; 1 sends each by itself.
   */
  batchSize: z.int().min(1).max(1000).default(1),
  times: systemTimesSchema.optional(),
  ...systemPages,
  objects: z.record(z.string(), odataObjectSchema),
});

export type ODataObject = z.output<typeof odataObjectSchema>;
export type ODataSystem = z.output<typeof odataSystemSchema>;
