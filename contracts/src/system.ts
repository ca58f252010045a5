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

/** An object that is reached as JSON over HTTP. Paths are relative to the system's address; `{key}` stands for the key. */
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
    /** OAuth 2.0 client credentials (RFC 6749 section 4.4). */
    z.strictObject({ kind: z.literal('client credentials'), tokenPath: z.string().startsWith('/'), scope: z.string().optional() }),
    /** HTTP Basic (RFC 7617) with a key and a secret. */
    z.strictObject({ kind: z.literal('key and secret') }),
    z.strictObject({ kind: z.literal('none') }),
  ]),
  timeoutMs: z.int().min(100).max(300_000).default(15_000),
  objects: z.record(z.string(), httpObjectSchema),
});

export const systemSchema = z.discriminatedUnion('kind', [httpSystemSchema, filesSystemSchema]);
export type FileObject = z.output<typeof fileObjectSchema>;
export type FilesSystem = z.output<typeof filesSystemSchema>;
export type HttpObject = z.output<typeof httpObjectSchema>;
export type HttpSystem = z.output<typeof httpSystemSchema>;
export type System = z.output<typeof systemSchema>;

/** What signs in: an id and a secret. Kept apart from the description, encrypted at rest. */
export const credentialSchema = z.strictObject({ id: z.string().min(1).max(500), secret: z.string().min(1).max(5000) });
export type Credential = z.output<typeof credentialSchema>;
