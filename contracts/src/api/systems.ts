import { z } from 'zod';
import {
  credentialSchema,
  fileObjectSchema,
  httpObjectSchema,
  newFieldTypes,
  systemSchema,
  systemSignInSchema,
} from '../system/index.js';
import { pennantSchema, systemSummarySchema } from './members.js';
import { problemSchema } from './problem.js';

/** What crosses HTTP about systems, their objects and what is in them. */

const time = z.iso.datetime();
const json = z.json();
export const environments = ['production', 'test copy'] as const;

const sourceTypeSchema = z.enum(['text', 'number', 'yes/no', 'date', 'instant', 'list', 'mixed', 'unknown']);
const sourceFieldSchema = z.object({
  path: z.string(),
  type: sourceTypeSchema,
  required: z.boolean().optional(),
  readOnly: z.boolean().optional(),
  choices: z.array(z.string()).optional(),
  reference: z.string().optional(),
  longest: z.number().optional(),
});
export const sourceSchemaSchema = z.object({
  origin: z.enum(['declared', 'seen']),
  fields: z.array(sourceFieldSchema),
});
export type SourceField = z.output<typeof sourceFieldSchema>;

const countedSchema = z.object({ value: z.string(), count: z.number() });
export const fieldProfileSchema = z.object({
  path: z.string(),
  type: sourceTypeSchema,
  types: z.array(z.object({ type: sourceTypeSchema, count: z.number() })),
  sent: z.number(),
  filled: z.number(),
  distinct: z.number(),
  distinctIsExact: z.boolean(),
  commonest: z.array(countedSchema),
  commonestIsExact: z.boolean(),
  formats: z.array(countedSchema),
  smallest: z.string().nullable(),
  largest: z.string().nullable(),
  longest: z.number(),
});
export type FieldProfile = z.output<typeof fieldProfileSchema>;
export const objectProfileSchema = z.object({
  records: z.number(),
  fields: z.array(fieldProfileSchema),
  moreFields: z.boolean(),
  /** Of the first records alone. */
  isPart: z.boolean().default(false),
});
export type ObjectProfile = z.output<typeof objectProfileSchema>;

export const schemaChangeSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.enum(['added', 'removed']), field: z.string(), type: sourceTypeSchema }),
  z.object({ kind: z.literal('retyped'), field: z.string(), from: sourceTypeSchema, to: sourceTypeSchema }),
  z.object({
    kind: z.enum(['now required', 'no longer required', 'now read-only', 'no longer read-only']),
    field: z.string(),
  }),
  z.object({ kind: z.literal('choices'), field: z.string(), added: z.array(z.string()), removed: z.array(z.string()) }),
  z.object({ kind: z.literal('length'), field: z.string(), from: z.number().optional(), to: z.number().optional() }),
  z.object({ kind: z.literal('reference'), field: z.string(), from: z.string().optional(), to: z.string().optional() }),
]);
export type SchemaChange = z.output<typeof schemaChangeSchema>;

export const probeStepSchema = z.object({
  name: z.string(),
  state: z.enum(['good', 'failed', 'doubtful', 'not tried']),
  says: z.string(),
  advice: z.string().optional(),
  code: z.string().optional(),
});
export type ProbeStep = z.output<typeof probeStepSchema>;
export const probeSchema = z.object({
  steps: z.array(probeStepSchema),
  answerMs: z.number().optional(),
  clockOffsetMs: z.number().optional(),
  ok: z.boolean(),
});
export type Probe = z.output<typeof probeSchema>;

/** How a profile is coming on. */
export const profileStateSchema = z.object({
  state: z.enum(['waiting', 'reading', 'done', 'failed']),
  records: z.number(),
  startedAt: time,
  endedAt: time.nullable(),
  words: z.string().nullable(),
});
export type ProfileState = z.output<typeof profileStateSchema>;

export const objectSummarySchema = z.object({
  name: z.string(),
  may: z.array(z.enum(['read', 'create', 'update', 'archive', 'delete', 'add fields'])),
  /** Whether it can be asked for what changed since a time. */
  tellsChanges: z.boolean(),
  /** Where people see all of it. */
  listPage: z.string().nullable(),
  holds: z.enum(['things that change', 'events']),
  holdsIsGuessed: z.boolean(),
  fields: z.number().nullable(),
  records: z.number().nullable(),
  schemaVersion: z.number().nullable(),
  changedAt: time.nullable(),
  profile: profileStateSchema.nullable(),
});
export type ObjectSummary = z.output<typeof objectSummarySchema>;

export const webhookSubscriptionSchema = z.object({
  id: z.string(),
  object: z.string(),
  /** Where the other system delivers to. */
  address: z.string(),
  state: z.enum(['working', 'missing', 'unknown']),
  words: z.string().nullable(),
  checkedAt: time.nullable(),
  /** How often it was made anew, because it was gone or switched off there. */
  putRight: z.number(),
  received: z.number(),
  refused: z.number(),
  lastAt: time.nullable(),
});
export type WebhookSubscription = z.output<typeof webhookSubscriptionSchema>;
export const deliveriesSchema = z.object({
  deliveries: z.array(
    /** `runs`: those that it started, or joined. */
    z.object({ id: z.string(), receivedAt: time, body: z.string(), runs: z.array(z.string()) }),
  ),
});
export type Deliveries = z.output<typeof deliveriesSchema>;

export const callsSchema = z.object({
  /** Of this day in UTC. */
  today: z.number(),
  perDay: z.number().nullable(),
  perSecond: z.number().nullable(),
  atOnce: z.number().nullable(),
  /** The system asked to be left alone until then. */
  restUntil: time.nullable(),
});

export const systemViewSchema = z.object({
  summary: systemSummarySchema,
  description: systemSchema,
  note: z.string(),
  environment: z.enum(environments),
  /** The day on which a consent, a certificate or a secret ends; null where nobody has said. */
  accessEndsOn: z.iso.date().nullable(),
  /** When its certificate ends, as it was seen last; null where it has none. */
  certificateEndsAt: time.nullable(),
  /** Grows with every change; a change says which one it was made from. */
  revision: z.number(),
  /** The id that signs in; the secret is never shown. */
  signsInAs: z.string().nullable(),
  probe: probeSchema.extend({ at: time }).nullable(),
  objects: z.array(objectSummarySchema),
  /** Of systems that are called over HTTP. */
  calls: callsSchema.nullable(),
  /** Of systems to whose sign-in a person gives consent. */
  consent: z
    .object({
      by: z.string().nullable(),
      at: time.nullable(),
      given: z.boolean(),
      granted: z.string().nullable(),
      /** Null where the system does not say. */
      endsAt: time.nullable(),
    })
    .nullable(),
  subscriptions: z.array(webhookSubscriptionSchema),
});
export type SystemView = z.output<typeof systemViewSchema>;

export const objectViewSchema = z.object({
  system: systemSummarySchema,
  environment: z.enum(environments),
  object: objectSummarySchema,
  schema: sourceSchemaSchema.nullable(),
  profile: objectProfileSchema.nullable(),
  /** The types of fields that can be added there. */
  newFieldTypes: z.array(z.enum(newFieldTypes)),
  history: z.array(
    z.object({ version: z.number(), seenAt: time, fields: z.number(), changes: z.array(schemaChangeSchema) }),
  ),
});
export type ObjectView = z.output<typeof objectViewSchema>;

const systemSettings = {
  description: systemSchema,
  note: z.string().max(2000).default(''),
  environment: z.enum(environments).default('production'),
  pennant: pennantSchema,
  /** The day on which a consent, a certificate or a secret ends; nobody knows where it is left out. */
  accessEndsOn: z.iso.date().nullable().default(null),
};
export const connectSystemSchema = z.object({ ...systemSettings, credential: credentialSchema.optional() });
export type ConnectSystem = z.input<typeof connectSystemSchema>;
/** Without a credential the kept one stays, unless the system is at another place now. */
export const changeSystemSchema = z.object({
  ...systemSettings,
  revision: z.number(),
  credential: credentialSchema.optional(),
});
export type ChangeSystem = z.input<typeof changeSystemSchema>;
/** With `system`, its kept credential serves where none is given and the place is the same. */
export const testSystemSchema = z.object({
  description: systemSchema,
  credential: credentialSchema.optional(),
  system: z.string().optional(),
});
export type TestSystem = z.input<typeof testSystemSchema>;

export const sampleSchema = z.object({
  records: z.array(z.object({ key: z.string(), fields: z.record(z.string(), json) })),
  more: z.boolean(),
});
export type Sample = z.output<typeof sampleSchema>;

export const tablesSchema = z.object({
  tables: z.array(
    z.object({
      schema: z.string(),
      table: z.string(),
      kind: z.enum(['table', 'view']),
      rows: z.number(),
      key: z.string().nullable(),
      times: z.array(z.string()),
      may: z.array(z.enum(['read', 'create', 'update', 'delete'])),
    }),
  ),
});
export type Tables = z.output<typeof tablesSchema>;
export const queryPreviewSchema = z.object({
  fields: z.array(sourceFieldSchema),
  rows: z.array(z.record(z.string(), json)),
});
export type QueryPreview = z.output<typeof queryPreviewSchema>;

export const openApiReadingSchema = z.object({
  title: z.string(),
  address: z.string().optional(),
  signIn: systemSignInSchema,
  objects: z.array(z.object({ name: z.string(), object: httpObjectSchema, doubts: z.array(z.string()) })),
});
export type OpenApiReading = z.output<typeof openApiReadingSchema>;

export const entitySetsSchema = z.object({
  sets: z.array(
    z.object({
      name: z.string(),
      key: z.string().nullable(),
      properties: z.array(z.string()),
      times: z.array(z.string()),
      insertable: z.boolean(),
      updatable: z.boolean(),
    }),
  ),
});
export type EntitySets = z.output<typeof entitySetsSchema>;

export const folderFilesSchema = z.object({
  files: z.array(
    z.object({
      path: z.string(),
      bytes: z.number(),
      changedAt: time,
      object: fileObjectSchema,
      sheets: z.array(z.string()),
      problem: z.string().optional(),
    }),
  ),
});
export type FolderFiles = z.output<typeof folderFilesSchema>;
export const filePreviewSchema = z.object({
  columns: z.array(z.string()),
  rows: z.array(z.record(z.string(), json)),
  count: z.number(),
  rejected: z.array(z.object({ line: z.number(), reason: z.string() })),
});
export type FilePreview = z.output<typeof filePreviewSchema>;

export const unitsSchema = z.object({ units: z.array(z.object({ id: z.string(), name: z.string() })) });
export type Units = z.output<typeof unitsSchema>;

export const newFieldSchema = z.object({ name: z.string().trim().min(1).max(100), type: z.enum(newFieldTypes) });
export type NewField = z.output<typeof newFieldSchema>;

/** A system that cannot do what was asked: its trouble, as a problem. */
export const systemTroubleSchema = problemSchema;
