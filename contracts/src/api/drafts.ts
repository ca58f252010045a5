import type { FieldProposal } from '@anchor-knot/core';
import { z } from 'zod';
import { fieldTypes, knotDraftSchema, stepSchema, weightsSchema } from '../knotFile.js';
import { knotStandingSchema } from './knots.js';
import { newFieldSchema } from './systems.js';

const time = z.iso.datetime();
const json = z.json();

/** A pairing that a person did not want: it is not proposed again. */
export const turnedDownSchema = z.strictObject({
  member: z.string().max(40),
  field: z.string().max(200),
  with: z.string().max(200),
});

/** A definition under work, kept on the server; one for each knot, shared by all who edit it. */
export const draftSchema = z.object({
  definition: knotDraftSchema,
  turnedDown: z.array(turnedDownSchema),
  /** Counts the changes; 0 when there is no draft and the definition is the one in force. */
  revision: z.number(),
  /** The version that it was begun from; 0 for a new knot. */
  basedOn: z.number(),
  changedBy: z.string().nullable(),
  changedAt: time.nullable(),
});
export type Draft = z.output<typeof draftSchema>;
export const saveDraftSchema = z.object({
  definition: knotDraftSchema,
  turnedDown: z.array(turnedDownSchema).max(5000).default([]),
  revision: z.int().min(0),
  basedOn: z.int().min(0),
});
export type SaveDraft = z.output<typeof saveDraftSchema>;

const chosenObjectSchema = z.object({ system: z.string().max(200), object: z.string().max(200) });
const newNames = {
  name: z.string().trim().min(1, 'give it a name').max(200),
  thing: z.string().trim().min(1, 'say what one of them is called').max(200),
};
export const newKnotSchema = z.object({
  ...newNames,
  members: z.array(chosenObjectSchema).min(2, 'choose at least two objects').max(20),
  /**
   * The records of one of its objects are something else as well, in a knot of its own: the customers of a shop are
   * accounts, and the people in them. `members` are the other objects of that knot.
   */
  also: z
    .object({
      ...newNames,
      of: chosenObjectSchema,
      members: z.array(chosenObjectSchema).min(1, 'choose with what they are kept the same').max(19),
    })
    .optional(),
});
export type NewKnot = z.output<typeof newKnotSchema>;
export const importKnotSchema = z.object({ file: json });

export const knotListSchema = z.object({
  knots: z.array(
    z.object({
      id: z.string(),
      name: z.string(),
      version: z.number(),
      standing: knotStandingSchema,
      draft: z.object({ changedBy: z.string(), changedAt: time }).nullable(),
      /** The knots whose things it refers to, and by which of its fields; of those in force. */
      refersTo: z.array(z.object({ knot: z.string(), fields: z.array(z.string()) })),
    }),
  ),
});
export type KnotList = z.output<typeof knotListSchema>;

/** What the objects of a knot's members hold, read to make and try its definition. */
export const readingSchema = z.object({
  members: z.array(
    z.object({
      id: z.string(),
      /** Why it could not be read; null when it was. */
      trouble: z.string().nullable(),
      records: z.number(),
      /** Whether these are all records that there are. */
      complete: z.boolean(),
      key: z.string(),
      /** What the system lets us do with its records. */
      may: z.array(z.string()),
      /** The types of field that can be added there; none where that system cannot. */
      newFieldTypes: z.array(newFieldSchema.shape.type),
      fields: z.array(
        z.object({
          path: z.string(),
          type: z.string(),
          /** Whether the system says so itself; otherwise it is what was found in its records. */
          declared: z.boolean(),
          filled: z.number(),
          distinct: z.number(),
          examples: z.array(z.string()),
          required: z.boolean(),
          readOnly: z.boolean(),
          choices: z.array(z.string()).nullable(),
          longest: z.number().nullable(),
        }),
      ),
      /** Some of its records. */
      sample: z.array(z.record(z.string(), json)),
    }),
  ),
  proposals: z.array(
    z.object({
      id: z.string(),
      name: z.string(),
      type: z.enum(fieldTypes),
      isNew: z.boolean(),
      /** Its values tell records apart: it can be a key rule. */
      isKey: z.boolean(),
      /** Of a reference: the knot whose things it holds. */
      refersTo: z.string().optional(),
      cells: z.array(
        z.object({
          member: z.string(),
          field: z.string(),
          direction: z.enum(['from', 'to', 'both ways']),
          steps: z.array(stepSchema),
          confidence: z.number(),
          reasons: z.array(z.string()),
        }),
      ),
      crosswalk: z
        .object({
          name: z.string(),
          rows: z.array(
            z.object({
              shared: z.string(),
              values: z.record(z.string(), z.array(z.union([z.string(), z.number(), z.boolean()]))),
            }),
          ),
        })
        .nullable(),
    }),
  ),
  /** Records that are the same thing as far as keys show: for each the record of each member that has one. */
  together: z.array(z.object({ title: z.string(), records: z.record(z.string(), z.record(z.string(), json)) })),
});
export type Reading = z.output<typeof readingSchema>;
export type Proposal = FieldProposal;

const surveyExampleSchema = z.object({ key: z.string(), title: z.string() });

/** What a definition makes of all records of one member. */
export const memberSurveySchema = z.object({
  records: z.number(),
  /** How many pass the filter; how many it cannot be worked out for, and why the first. */
  takePart: z.number(),
  filterFails: z.number(),
  filterReason: z.string().optional(),
  inside: z.array(surveyExampleSchema),
  outside: z.array(surveyExampleSchema),
  /** By shared field: filled values, how many of them cannot be read, and why. */
  cells: z.record(
    z.string(),
    z.object({
      filled: z.number(),
      unreadable: z.number(),
      reasons: z.array(z.string()),
      examples: z.array(surveyExampleSchema),
    }),
  ),
  checks: z.record(z.string(), z.object({ fails: z.number(), examples: z.array(surveyExampleSchema) })),
  unknownValues: z.array(z.object({ table: z.string(), value: z.string(), count: z.number() })),
});
export type MemberSurvey = z.output<typeof memberSurveySchema>;

const pairSideSchema = z.object({ member: z.string(), key: z.string(), title: z.string() });
/**
 * A score taken apart, in bits; the prior, what related records take off and what the parts add make the whole, to the
 * last digit.
 */
export const scoreSchema = z.object({
  bits: z.number(),
  probability: z.number(),
  prior: z.number(),
  related: z.number().default(0),
  parts: z.array(z.object({ name: z.string(), says: z.string(), adds: z.number(), rarity: z.number() })),
});
export type PairScore = z.output<typeof scoreSchema>;
export const ruleSaysSchema = z.object({ name: z.string(), says: z.enum(['the same', 'differs', 'missing']) });
export type RuleSays = z.output<typeof ruleSaysSchema>;
export const pairExampleSchema = z.object({
  a: pairSideSchema,
  b: pairSideSchema,
  /** What both have, by part of the evidence. */
  texts: z.array(z.tuple([z.string().nullable(), z.string().nullable()])),
  score: scoreSchema,
  /** What each key rule says of the two. */
  rules: z.array(ruleSaysSchema),
  isDisputed: z.boolean(),
});
export type PairExample = z.output<typeof pairExampleSchema>;

/** What weighed evidence makes of the records that no key ties. */
export const evidenceSurveySchema = z.object({
  weights: weightsSchema,
  free: z.number(),
  filled: z.array(z.number()),
  compared: z.number(),
  records: z.number(),
  bins: z.array(
    z.object({ from: z.number(), pairs: z.number(), disputed: z.number(), examples: z.array(pairExampleSchema) }),
  ),
});
export type EvidenceSurvey = z.output<typeof evidenceSurveySchema>;

/** How the records of all members would belong together, if nothing were tied yet. */
export const identitySurveySchema = z.object({
  rules: z.array(
    z.object({
      name: z.string(),
      ties: z.number(),
      repeated: z.number(),
      without: z.number(),
      examples: z.array(z.string()),
    }),
  ),
  evidence: evidenceSurveySchema.optional(),
  together: z.number(),
  alone: z.number(),
  waiting: z.number(),
});
export type IdentitySurvey = z.output<typeof identitySurveySchema>;

/** One line of the answer to a survey: JSON values, one a line (newline-delimited JSON). */
export const surveyLineSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('progress'), member: z.string(), records: z.number() }),
  z.object({ kind: z.literal('member'), member: z.string(), survey: memberSurveySchema }),
  z.object({ kind: z.literal('trouble'), member: z.string(), says: z.string() }),
  /** How many records were compared by evidence. */
  z.object({ kind: z.literal('comparing'), done: z.number(), total: z.number() }),
  /** Last, when all members were read and compared. */
  z.object({ kind: z.literal('done'), identity: identitySurveySchema }),
]);
export type SurveyLine = z.output<typeof surveyLineSchema>;
