import { z } from 'zod';
import { objectPages, systemPages } from './pages.js';
import { rowsObjects } from './rows.js';
import { callBudgetSchema, systemSignInSchema } from './signIn.js';
import { systemTimesSchema } from './times.js';

const fieldPath = z.string().min(1).max(200);
const headerName = z.string().regex(/^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}$/, 'is not the name of a header');
const path = z.string().startsWith('/').max(1000);
/** `sql local` is in the zone of the system's times. */
const timeFormat = z.enum(['iso', 'sql utc', 'sql local', 'unix seconds', 'unix milliseconds']);

/** The types that a field can be created with. */
export const newFieldTypes = ['text', 'number', 'date', 'yes/no'] as const;
export type NewFieldType = (typeof newFieldTypes)[number];

/** An object that is reached as JSON over HTTP. Paths are below the system's address; `{key}` stands for the key. */
export const httpObjectSchema = z.strictObject({
  key: fieldPath,
  modifiedAt: z.strictObject({ field: fieldPath, format: timeFormat }).optional(),
  /**
   * The field that holds an entity tag (RFC 9110 section 8.8.3) in listings; single answers have it in the ETag header.
   */
  etag: fieldPath.optional(),
  list: z.strictObject({
    path,
    items: z.string().default(''),
    pageSize: z.strictObject({ parameter: z.string().min(1), value: z.int().min(1).max(10_000) }),
    paging: z.discriminatedUnion('kind', [
      /** `first` is what asks for the first page, where nothing does not. */
      z.strictObject({
        kind: z.literal('cursor'),
        parameter: z.string().min(1),
        first: z.string().optional(),
        next: fieldPath,
      }),
      /** Numbered pages; the next one is announced by a Link header (RFC 8288). */
      z.strictObject({ kind: z.literal('link header') }),
      /** Numbered pages until one is not full; the first is number 1 unless said otherwise. */
      z.strictObject({
        kind: z.literal('page number'),
        parameter: z.string().min(1),
        first: z.int().min(0).max(1).default(1),
      }),
      /** From the how-manieth record on, until a page is not full. */
      z.strictObject({ kind: z.literal('offset'), parameter: z.string().min(1) }),
    ]),
    changedSince: z.strictObject({ parameter: z.string().min(1), format: timeFormat }).optional(),
    /** What tells that a listed record was deleted: a field that holds anything, or just this value. */
    deleted: z.strictObject({ field: fieldPath, value: z.string().optional() }).optional(),
  }),
  read: z.strictObject({ path, item: z.string().default('') }),
  /** A query parameter per field by which records can be found. */
  search: z.record(fieldPath, z.string()).default({}),
  create: z
    .strictObject({
      method: z.enum(['POST', 'PUT']),
      path,
      wrap: z.string().optional(),
      idempotencyHeader: z.string().optional(),
      /** Fields without which it creates nothing. */
      requires: z.array(fieldPath).max(200).default([]),
    })
    .optional(),
  update: z
    .strictObject({ method: z.enum(['PATCH', 'PUT', 'POST']), path, wrap: z.string().optional(), ifMatch: z.boolean() })
    .optional(),
  /** DELETE (RFC 9110 section 9.3.5) at that path. */
  remove: z.strictObject({ path, ifMatch: z.boolean() }).optional(),
  /** A record is archived by giving this field this value; it goes the way of updates. */
  archive: z.strictObject({ field: fieldPath, value: z.union([z.string(), z.boolean(), z.number()]) }).optional(),
  /** How a field is added there. */
  createField: z
    .strictObject({
      method: z.enum(['POST', 'PUT']),
      path,
      /** The members of the body that hold its name and type, and the system's words for the types. */
      name: fieldPath,
      type: fieldPath,
      types: z.partialRecord(z.enum(newFieldTypes), z.string().min(1)),
      /** Where the answer says what the field is called in records, and under what it is found there. */
      answer: z.string().default(''),
      fieldsUnder: z.string().default(''),
    })
    .optional(),
  /** The events of this object that can be subscribed to, in the system's words. */
  events: z.array(z.string().min(1).max(200)).max(50).default([]),
  ...objectPages,
});

/**
 * Where a system says by itself that something happened: how subscriptions are kept there, and how their deliveries are
 * signed.
 */
export const webhooksSchema = z.strictObject({
  /** POST makes one, GET lists them, DELETE below it removes one. */
  path,
  items: z.string().default(''),
  id: fieldPath,
  /** The members that hold the address, the secret that signs, and the list of events. */
  address: fieldPath,
  secret: fieldPath,
  events: fieldPath,
  /** What a subscription that works looks like; others are put right. */
  active: z.strictObject({ field: fieldPath, value: z.string() }).optional(),
  /** Where a delivery has the key of the record that it tells of. */
  record: fieldPath.optional(),
  signature: z.discriminatedUnion('kind', [
    /** The Standard Webhooks specification 1.0: webhook-id, webhook-timestamp, webhook-signature. */
    z.strictObject({ kind: z.literal('standard webhooks') }),
    /**
     * HMAC-SHA256 (RFC 2104) over the raw body, after the time and a point where a time is sent; and an id of the
     * delivery.
     */
    z.strictObject({
      kind: z.literal('hmac sha256'),
      header: headerName,
      encoding: z.enum(['hex', 'base64']),
      timeHeader: headerName.optional(),
      idHeader: headerName,
    }),
  ]),
});
export type Webhooks = z.output<typeof webhooksSchema>;

/** The organisation, company or unit that is worked in, where an account sees several. */
export const unitSchema = z.strictObject({
  list: z.strictObject({ path, items: z.string().default(''), id: fieldPath, name: fieldPath }),
  /** The header that names it in every call. */
  header: headerName,
  chosen: z.string().min(1).max(500).optional(),
});

export const httpSystemSchema = z.strictObject({
  kind: z.literal('http'),
  name: z.string().min(1).max(200),
  address: z.url({ protocol: /^https?$/ }),
  signIn: systemSignInSchema,
  timeoutMs: z.int().min(100).max(300_000).default(15_000),
  budget: callBudgetSchema.optional(),
  unit: unitSchema.optional(),
  webhooks: webhooksSchema.optional(),
  times: systemTimesSchema.optional(),
  ...systemPages,
  objects: z.record(z.string(), httpObjectSchema),
  ...rowsObjects,
});

export type HttpObject = z.output<typeof httpObjectSchema>;
export type HttpSystem = z.output<typeof httpSystemSchema>;
