import { z } from 'zod';
import { objectPages, systemPages } from './pages.js';
import { systemTimesSchema } from './times.js';

const column = z.string().min(1).max(200);

/** A table or view, or a query that stands in for one. A query can only be read. */
export const sqlObjectSchema = z.strictObject({
  source: z.discriminatedUnion('kind', [
    z.strictObject({
      kind: z.literal('table'),
      schema: column.default('public'),
      table: column,
      /** The rows of a view have no versions of their own: they are compared by what is in them. */
      isView: z.boolean().optional(),
    }),
    z.strictObject({ kind: z.literal('query'), sql: z.string().trim().min(1).max(20_000) }),
  ]),
  /** The column whose value tells a row from all others. */
  key: column,
  /** A column with the time of the last change: what changed since is asked for by it. */
  modifiedAt: column.optional(),
  /** Columns by which rows may be searched. */
  search: z.array(column).default([]),
  mayWrite: z.boolean().default(false),
  mayDelete: z.boolean().default(false),
  ...objectPages,
});

export const sqlSystemSchema = z.strictObject({
  kind: z.literal('sql'),
  name: z.string().min(1).max(200),
  host: z.string().min(1).max(255),
  port: z.int().min(1).max(65_535).default(5432),
  database: z.string().min(1).max(200),
  /** `required` encrypts without asking who is there; `verified` also checks the certificate. */
  tls: z.enum(['off', 'required', 'verified']).default('verified'),
  timeoutMs: z.int().min(100).max(300_000).default(30_000),
  times: systemTimesSchema.optional(),
  ...systemPages,
  objects: z.record(z.string(), sqlObjectSchema),
});

export type SqlObject = z.output<typeof sqlObjectSchema>;
export type SqlSystem = z.output<typeof sqlSystemSchema>;
