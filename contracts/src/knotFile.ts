import type { AnchorId, FieldType, Knot } from '@anchor-knot/core';
import { z } from 'zod';
import { comparisonSchema } from './matchRules.js';
import { filesSystemSchema } from './system/index.js';

/** Named again here, so that the web client need not carry the engine; the type test compares. */
export const fieldTypes = [
  'text',
  'note',
  'email',
  'phone',
  'choice',
  'number',
  'yes/no',
  'date',
  'instant',
  'list',
  'reference',
] as const satisfies readonly FieldType[];

/** Ids are used as names in formulas, so they are plain identifiers. */
const id = z.string().regex(/^[a-z][A-Za-z0-9]{0,39}$/, 'use a letter, then letters and digits, 40 at most');
const words = z.string().trim().min(1, 'may not be empty').max(200);
const path = z
  .string()
  .min(1)
  .max(200)
  .refine((text) => !/(^|\.)(__proto__|constructor|prototype)(\.|$)/.test(text), 'is not a field name');
const formula = z.string().min(1).max(4000);
const scalar = z.union([z.string().max(1000), z.number(), z.boolean()]);
const direction = z.enum(['from', 'to', 'both ways']);

const country = z.string().regex(/^[A-Za-z]{2}$/, 'use an ISO 3166 code of two letters');
const rounding = z.enum(['half up', 'half even', 'up', 'down']);

/** The id of an anchor: a UUID. It is one as it stands: a transformation could not be answered with. */
const anchor = z.uuid() as unknown as z.ZodType<AnchorId, string>;

export const stepSchema = z.discriminatedUnion('kind', [
  z.strictObject({ kind: z.literal('trim') }),
  z.strictObject({ kind: z.literal('case'), side: z.enum(['shared', 'member']), form: z.enum(['upper', 'lower']) }),
  z.strictObject({ kind: z.literal('cut'), length: z.int().min(1).max(100_000), ellipsis: z.boolean().optional() }),
  z.strictObject({
    kind: z.literal('phone'),
    country,
    form: z.enum(['national', 'international', 'e164']),
  }),
  z.strictObject({ kind: z.literal('country'), form: z.enum(['name', 'alpha2', 'alpha3']) }),
  z.strictObject({ kind: z.literal('crosswalk'), table: id }),
  z.strictObject({ kind: z.literal('yesNo'), yes: z.array(scalar).min(1), no: z.array(scalar).min(1) }),
  z.strictObject({
    kind: z.literal('number'),
    decimal: z.enum(['.', ',']).optional(),
    group: z.string().max(1).optional(),
    places: z.int().min(0).max(10).optional(),
    factor: z
      .string()
      .regex(/^\d+(\.\d+)?$/, 'use a positive number in plain notation')
      .refine((text) => Number(text) > 0, 'must be greater than zero')
      .optional(),
    as: z.enum(['number', 'text']).optional(),
    rounding: rounding.optional(),
  }),
  z.strictObject({
    kind: z.literal('date'),
    format: z.string().min(1).max(60),
    zone: z.string().max(60).optional(),
    to: z.enum(['date', 'instant']),
  }),
  z.strictObject({ kind: z.literal('list'), separator: z.string().min(1).max(5) }),
  z.strictObject({
    kind: z.literal('pad'),
    length: z.int().min(1).max(200),
    with: z.string().length(1, 'use one character'),
    side: z.enum(['start', 'end']),
  }),
  z.strictObject({ kind: z.literal('replace'), find: z.string().min(1).max(200), by: z.string().max(200) }),
  z.strictObject({ kind: z.literal('part'), layout: z.string().min(1).max(500), part: z.string().min(1).max(60) }),
  z.strictObject({
    kind: z.literal('personName'),
    part: z.enum(['salutation', 'given', 'middle', 'family', 'suffix']),
  }),
  z.strictObject({ kind: z.literal('address'), part: z.enum(['street', 'town', 'postcode', 'country']), country }),
  z.strictObject({ kind: z.literal('email') }),
  z.strictObject({
    kind: z.literal('money'),
    currency: z.string().regex(/^[A-Za-z]{3}$/, 'use an ISO 4217 code of three letters'),
    locale: z.string().min(2).max(35),
    show: z.enum(['symbol', 'code', 'number']),
    rounding: rounding.optional(),
  }),
  z.strictObject({ kind: z.literal('path'), path }),
  z.strictObject({ kind: z.literal('link'), address: z.string().min(1).max(500) }),
  z.strictObject({ kind: z.literal('hash'), salt: z.string().max(200).optional() }),
  z.strictObject({ kind: z.literal('default'), value: scalar }),
  z.strictObject({ kind: z.literal('constant'), value: scalar }),
  z.strictObject({
    kind: z.literal('reference'),
    by: z.union([z.strictObject({ member: id }), z.strictObject({ field: id })]),
    notFound: z.union([z.literal('blank'), z.strictObject({ instead: anchor })]).optional(),
  }),
  z.strictObject({ kind: z.literal('formula'), inbound: formula.optional(), outbound: formula.optional() }),
]);

const ruleStepSchema = z.discriminatedUnion('step', [
  z.strictObject({ step: z.literal('newest'), toleranceSeconds: z.number().min(0).max(86_400).optional() }),
  z.strictObject({ step: z.literal('order'), members: z.array(id).min(1) }),
  z.strictObject({ step: z.literal('greatest') }),
  z.strictObject({ step: z.literal('least') }),
  z.strictObject({ step: z.literal('longest') }),
  z.strictObject({ step: z.literal('present') }),
  z.strictObject({ step: z.literal('ask') }),
]);

const mappingSchema = z.strictObject({
  field: path,
  direction,
  steps: z.array(stepSchema).max(20).default([]),
  absentMeansBlank: z.boolean().default(false),
  blankAs: z.enum(['null', 'empty text']).default('null'),
  drift: z.enum(['put back', 'leave']).default('put back'),
  compare: z.array(stepSchema).max(20).optional(),
});

/** May be empty while somebody is at it. */
const place = z.string().max(200);
const stateValue = z.string().max(200);
const outcomeSchema = z.strictObject({
  of: id,
  state: z
    .strictObject({
      field: place,
      done: stateValue,
      failed: stateValue,
      pending: stateValue.optional(),
      ready: stateValue.optional(),
    })
    .optional(),
  words: place.optional(),
  time: place.optional(),
  key: place.optional(),
  link: place.optional(),
});

const memberSchema = z.strictObject({
  id,
  system: words,
  object: words,
  may: z.strictObject({
    create: z.boolean(),
    update: z.boolean(),
    archive: z.boolean().optional(),
    delete: z.boolean().optional(),
  }),
  startsAnchors: z.boolean().default(true),
  onlyFrom: z.array(id).max(20).optional(),
  inOrderOf: id.optional(),
  whenDeleted: z.enum(['nothing', 'archive', 'delete', 'ask']).optional(),
  deletesReferred: z.boolean().optional(),
  filter: formula.optional(),
  required: z.array(path).default([]),
  carries: path.optional(),
  guards: z
    .strictObject({
      creates: z.int().min(0).optional(),
      updates: z.int().min(0).optional(),
      removals: z.int().min(0).optional(),
      updatesPercent: z.number().min(0).max(100).optional(),
    })
    .default({}),
  outcomes: z.array(outcomeSchema).max(20).optional(),
  acknowledges: z.strictObject({ field: place, lateAfter: z.number().min(0).max(527_040) }).optional(),
});

const fieldSchema = z.strictObject({
  id,
  name: words,
  type: z.enum(fieldTypes),
  rule: z.strictObject({
    combine: z.enum(['sum', 'union', 'text']).optional(),
    steps: z.array(ruleStepSchema).min(1).max(10),
    reason: z.string().max(2000).optional(),
  }),
  owner: z.string().max(200).optional(),
  note: z.string().max(2000).optional(),
  sensitive: z.boolean().optional(),
  formula: formula.optional(),
  series: z.string().min(1).max(200).optional(),
  refersTo: z.string().min(1).max(200).optional(),
  levels: z.boolean().optional(),
  archivedWith: z.boolean().optional(),
  mappings: z.record(id, mappingSchema),
});

const checkTerms = { id, says: words, onFail: z.enum(['reject', 'stop']), members: z.array(id).optional() };

const share = z.number().gt(0).max(1);
const shares = z.array(share).min(2).max(5);
/** 100 times the binary logarithm of a share. */
const commonness = z.int().min(-4000).max(0);
/** What was learned of evidence: how often levels come, and which values (by their hash) are common. */
export const weightsSchema = z.strictObject({
  fields: z
    .array(z.strictObject({ m: shares, u: shares, common: z.record(z.string().max(7), commonness), rare: commonness }))
    .max(20),
  prior: share,
  related: z.strictObject({ fields: z.array(shares).max(20), prior: share }).optional(),
});
const bits = z.number().min(-40).max(60);
const evidenceSchema = z.strictObject({
  fields: z.array(z.strictObject({ name: words, fields: z.array(id).max(8), compare: comparisonSchema })).max(20),
  thresholds: z.strictObject({ upper: bits, lower: bits }),
  weights: weightsSchema.optional(),
});
const keyRules = z
  .array(
    z.strictObject({
      name: words,
      fields: z.array(z.strictObject({ field: id, normalise: z.enum(['exact', 'text', 'email', 'digits']) })).min(1),
    }),
  )
  .max(50);

/** The definition of a knot, as it is stored, edited as JSON, and kept in files. */
export const knotSchema = z.strictObject({
  id,
  name: words,
  thing: words,
  description: z.string().max(2000).optional(),
  owner: z.string().max(200).optional(),
  labels: z.array(words).max(20).optional(),
  titleField: id,
  start: z.enum(['merge', 'adopt']).default('merge'),
  members: z.array(memberSchema).min(2).max(20),
  fields: z.array(fieldSchema).min(1).max(500),
  keyRules,
  evidence: evidenceSchema.optional(),
  checks: z
    .array(z.union([z.strictObject({ ...checkTerms, formula }), z.strictObject({ ...checkTerms, unique: id })]))
    .default([]),
  crosswalks: z
    .record(
      id,
      z.strictObject({
        name: words,
        rows: z
          .array(z.strictObject({ shared: z.string().max(1000), values: z.record(id, z.array(scalar)) }))
          .max(20_000),
      }),
    )
    .default({}),
}) satisfies z.ZodType<Knot, unknown>;

/**
 * A definition that is still being made: the same form, with nothing in it required yet. What keeps it from going into
 * force is told by the engine's review.
 */
export const knotDraftSchema = knotSchema.extend({
  titleField: z.union([id, z.literal('')]),
  members: z.array(memberSchema).max(20),
  fields: z.array(fieldSchema).max(500),
  keyRules: z.array(
    z.strictObject({
      name: words,
      fields: z.array(z.strictObject({ field: id, normalise: z.enum(['exact', 'text', 'email', 'digits']) })),
    }),
  ),
}) satisfies z.ZodType<Knot, unknown>;
export type KnotDefinition = Knot;

/**
 * A knot as a file. On a server, members name its systems; where the file brings systems of its own (folders of
 * files), it can be run by the command line alone.
 */
export const knotFileSchema = z.strictObject({
  format: z.literal('anchor-knot'),
  formatVersion: z.literal(1),
  knot: knotSchema,
  systems: z.record(z.string(), filesSystemSchema).optional(),
});
export type KnotFile = z.output<typeof knotFileSchema>;

/** What Zod found wrong, as lines for people: the place, then the words. */
export function describeIssues(error: z.ZodError): { at: string; says: string }[] {
  return error.issues.map(({ path: at, message }) => ({
    at: at.map(String).join('.') || 'the whole file',
    says: message,
  }));
}
