import { z } from 'zod';

/** One file as an object: its records are the rows or lines. */
export const fileObjectSchema = z.strictObject({
  /** Relative to the folder. */
  path: z.string().min(1).max(500),
  format: z.enum(['csv', 'jsonl']),
  /** The column or field that is the record's key. */
  key: z.string().min(1).max(200),
  /** A column or field with the time of the last change, ISO 8601. */
  modifiedAt: z.string().min(1).max(200).optional(),
  delimiter: z.string().length(1).default(','),
});

export const filesSystemSchema = z.strictObject({
  kind: z.literal('files'),
  name: z.string().min(1).max(200),
  /** Relative to the knot file, or absolute. */
  folder: z.string().min(1).max(1000).default('.'),
  objects: z.record(z.string(), fileObjectSchema),
});

const fieldPath = z.string().min(1).max(200);
const timeFormat = z.enum(['iso', 'sql utc', 'unix seconds', 'unix milliseconds']);

/** An object that is reached as JSON over HTTP. Paths are below the system's address; `{key}` stands for the key. */
export const httpObjectSchema = z.strictObject({
  key: fieldPath,
  modifiedAt: z.strictObject({ field: fieldPath, format: timeFormat }).optional(),
  /** The field that holds an entity tag (RFC 9110 section 8.8.3) in listings; single answers have it in the ETag header. */
  etag: fieldPath.optional(),
  list: z.strictObject({
    path: z.string().startsWith('/'),
    items: z.string().default(''),
    pageSize: z.strictObject({ parameter: z.string(), value: z.int().min(1).max(10_000) }),
    paging: z.discriminatedUnion('kind', [
      /** `first` is what asks for the first page, where nothing does not. */
      z.strictObject({ kind: z.literal('cursor'), parameter: z.string(), first: z.string().optional(), next: fieldPath }),
      /** Numbered pages; the next one is announced by a Link header (RFC 8288). */
      z.strictObject({ kind: z.literal('link header') }),
      /** Numbered pages until one is not full; the first is number 1 unless said otherwise. */
      z.strictObject({ kind: z.literal('page number'), parameter: z.string(), first: z.int().min(0).max(1).default(1) }),
      /** From the how-manieth record on, until a page is not full. */
      z.strictObject({ kind: z.literal('offset'), parameter: z.string() }),
    ]),
    changedSince: z.strictObject({ parameter: z.string(), format: timeFormat }).optional(),
  }),
  read: z.strictObject({ path: z.string().startsWith('/'), item: z.string().default('') }),
  /** A query parameter per field by which records can be found. */
  search: z.record(fieldPath, z.string()).default({}),
  create: z.strictObject({ method: z.enum(['POST', 'PUT']), path: z.string().startsWith('/'), wrap: z.string().optional(), idempotencyHeader: z.string().optional() }).optional(),
  update: z.strictObject({ method: z.enum(['PATCH', 'PUT', 'POST']), path: z.string().startsWith('/'), wrap: z.string().optional(), ifMatch: z.boolean() }).optional(),
});

export const httpSystemSchema = z.strictObject({
  kind: z.literal('http'),
  name: z.string().min(1).max(200),
  address: z.url({ protocol: /^https?$/ }),
  signIn: z.discriminatedUnion('kind', [
    /** OAuth 2.0 client credentials (RFC 6749 section 4.4). The token's path begins at the host, not at the address. */
    z.strictObject({ kind: z.literal('client credentials'), tokenPath: z.string().startsWith('/'), scope: z.string().optional() }),
    /** HTTP Basic (RFC 7617) with a key and a secret. */
    z.strictObject({ kind: z.literal('key and secret') }),
    /** A token that does not change (RFC 6750): the credential's secret. Its id is only a name. */
    z.strictObject({ kind: z.literal('bearer token') }),
    /** The credential's secret in a header of the system's own. */
    z.strictObject({ kind: z.literal('header key'), header: z.string().regex(/^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}$/, 'is not the name of a header') }),
    z.strictObject({ kind: z.literal('none') }),
  ]),
  timeoutMs: z.int().min(100).max(300_000).default(15_000),
  objects: z.record(z.string(), httpObjectSchema),
});

const column = z.string().min(1).max(200);

/** A table, or a query that stands in for one. A query can only be read. */
export const sqlObjectSchema = z.strictObject({
  source: z.discriminatedUnion('kind', [
    z.strictObject({ kind: z.literal('table'), schema: column.default('public'), table: column }),
    z.strictObject({ kind: z.literal('query'), sql: z.string().trim().min(1).max(20_000) }),
  ]),
  /** The column whose value tells a row from all others. */
  key: column,
  /** A column with the time of the last change: what changed since is asked for by it. */
  modifiedAt: column.optional(),
  /** Columns by which rows may be searched. */
  search: z.array(column).default([]),
  mayWrite: z.boolean().default(false),
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
  objects: z.record(z.string(), sqlObjectSchema),
});

export const systemSchema = z.discriminatedUnion('kind', [httpSystemSchema, filesSystemSchema, sqlSystemSchema]);
export type FileObject = z.output<typeof fileObjectSchema>;
export type FilesSystem = z.output<typeof filesSystemSchema>;
export type HttpObject = z.output<typeof httpObjectSchema>;
export type HttpSystem = z.output<typeof httpSystemSchema>;
export type SqlObject = z.output<typeof sqlObjectSchema>;
export type SqlSystem = z.output<typeof sqlSystemSchema>;
export type System = z.output<typeof systemSchema>;

/** What signs in: an id and a secret. Kept apart from the description, encrypted at rest. */
export const credentialSchema = z.strictObject({ id: z.string().min(1).max(500), secret: z.string().min(1).max(5000) });
export type Credential = z.output<typeof credentialSchema>;
