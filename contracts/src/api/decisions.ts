import { z } from 'zod';
import { giverSchema } from './causes.js';
import { type DecisionKind, decisionKindNames } from './decisionKinds.js';
import { scoreSchema } from './drafts.js';
import { json, time } from './json.js';
import { memberSummarySchema } from './members.js';
import { schemaChangeSchema } from './systems.js';

export const decisionKindSchema = z.enum(decisionKindNames);

/** A score, and what both records have for each part of it. */
const comparedSchema = scoreSchema.extend({
  texts: z.array(z.object({ fields: z.array(z.string()), a: z.string().nullable(), b: z.string().nullable() })),
});
export type ComparedScore = z.output<typeof comparedSchema>;
const recordName = z.object({ member: z.string(), key: z.string() });
const nothing = z.object({});

/** What is known of a decision, by its kind, for those who take it. */
export const decisionDetails = {
  guard: nothing,
  trouble: z.object({ code: z.string(), advice: z.string() }),
  /** Where it stands, of what comes in files; of a file that cannot be read at all there is no line. */
  unusable: z.object({ file: z.string().nullable(), line: z.number().nullable() }),
  'fields changed': z.object({ changes: z.array(schemaChangeSchema) }),
  'unusually quiet': z.object({ usual: z.number(), since: time }),
  held: z.object({
    /** What was agreed before. */
    base: z.object({ value: json.nullable() }).nullable(),
    /** With what was given it would stand under itself: that cannot be chosen. */
    isCircle: z.boolean().default(false),
    candidates: z.array(
      z.object({ value: json.nullable(), givers: z.array(giverSchema), at: z.number(), isAgreed: z.boolean() }),
    ),
  }),
  'unsure match': z.object({
    why: z.enum(['evidence', 'keys disagree', 'several anchors']),
    candidates: z.array(
      z.object({
        anchor: z.string().nullable(),
        records: z.array(recordName),
        /** The record that it is most like. */
        with: recordName.nullable(),
        score: comparedSchema.nullable(),
      }),
    ),
  }),
  duplicate: z.object({
    value: z.string().nullable(),
    rule: z.string().nullable(),
    keys: z.array(z.string()),
    /** The one that is tied already. */
    tiedKey: z.string().nullable(),
    scores: z.array(z.object({ key: z.string(), score: comparedSchema.nullable() })).default([]),
  }),
  'unclear write': z.object({ intent: z.string() }),
  'deleted elsewhere': z.object({
    others: z.array(recordName.extend({ archive: z.boolean(), delete: z.boolean() })),
  }),
  refused: nothing,
  rejected: z.object({ reasons: z.array(z.string()) }),
  'cannot be created': nothing,
  unreadable: z.object({ raw: json.nullable() }),
  unwritable: z.object({ raw: json.nullable() }),
  waiting: z.object({
    /** The knot that it refers to, and how: by the key of a record there, or by what a shared field has. */
    knot: z.string(),
    by: z.union([z.object({ member: z.string() }), z.object({ field: z.string() })]),
    /** What nothing is known by; null where the thing is known, and cannot be told here yet. */
    value: z.string().nullable(),
    thing: z.string().nullable(),
    /** What the knot, and the thing where it is known, are called. */
    knotName: z.string().default(''),
    title: z.string().nullable().default(null),
    /** The list of that knot in which the record stands that it names, where it is known and belongs to nothing. */
    list: z.enum(['waiting', 'rejected', 'untied', 'aside']).nullable().default(null),
  }),
} as const satisfies Record<DecisionKind, z.ZodType>;
export type DecisionDetail<Kind extends DecisionKind = DecisionKind> = z.output<(typeof decisionDetails)[Kind]>;

const common = {
  id: z.string(),
  knot: z.string(),
  knotName: z.string(),
  anchor: z.string().nullable(),
  title: z.string().nullable(),
  member: z.string().nullable(),
  key: z.string().nullable(),
  field: z.string().nullable(),
  fieldName: z.string().nullable(),
  says: z.string(),
  fingerprint: z.string(),
  openedAt: time,
  /** What it is about, by names: of the thing, or of the records. */
  subject: z.string(),
  /** Members into which the field may be written. */
  writes: z.array(z.string()),
  /** Of duplicates the record that holds most; null of other kinds. */
  fullest: z.string().nullable(),
  putOffUntil: time.nullable(),
  /** The colleague who is asked to look at it. */
  givenTo: z.object({ email: z.string(), name: z.string() }).nullable(),
  note: z.string(),
  /** How many writes of this system were refused in these words. */
  alike: z.number(),
};
const decisionOf = <Kind extends DecisionKind>(kind: Kind) =>
  z.object({ ...common, kind: z.literal(kind), detail: decisionDetails[kind] });
export const decisionSchema = z.discriminatedUnion('kind', [
  decisionOf('guard'),
  decisionOf('trouble'),
  decisionOf('held'),
  decisionOf('unsure match'),
  decisionOf('duplicate'),
  decisionOf('unclear write'),
  decisionOf('deleted elsewhere'),
  decisionOf('refused'),
  decisionOf('rejected'),
  decisionOf('cannot be created'),
  decisionOf('unusable'),
  decisionOf('fields changed'),
  decisionOf('unusually quiet'),
  decisionOf('unreadable'),
  decisionOf('unwritable'),
  decisionOf('waiting'),
]);
export type Decision = z.output<typeof decisionSchema>;
export const decisionListSchema = z.object({
  decisions: z.array(decisionSchema),
  next: z.string().nullable(),
  total: z.number(),
  kinds: z.array(z.object({ kind: decisionKindSchema, count: z.number() })),
  members: z.record(z.string(), z.array(memberSummarySchema)),
  /** Fields of the knot that was asked for. */
  fields: z.array(z.object({ id: z.string(), name: z.string() })),
});
export type DecisionList = z.output<typeof decisionListSchema>;

/** What references wait for: a thing, or a value by which none is known; and how many wait for it. */
export const lackedSchema = z.object({
  knot: z.string(),
  knotName: z.string(),
  field: z.string(),
  fieldName: z.string(),
  /** The knot of what is lacked. */
  of: z.string(),
  ofName: z.string(),
  /** By this the list of decisions is filtered: the value, or the id of the thing. */
  lacks: z.string(),
  thing: z.string().nullable(),
  /** What the thing is called, or the value. */
  title: z.string(),
  count: z.number(),
  since: time,
});
export type Lacked = z.output<typeof lackedSchema>;
/** Those that most wait for, and how many there are in all. */
export const lackedListSchema = z.object({ lacked: z.array(lackedSchema), total: z.number() });
export type LackedList = z.output<typeof lackedListSchema>;

export const choiceSchema = z.discriminatedUnion('choose', [
  z.object({ choose: z.literal('value'), value: json, fingerprint: z.string() }),
  z.object({ choose: z.literal('record'), key: z.string(), fingerprint: z.string() }),
  /** The record is the same thing as that candidate. */
  z.object({ choose: z.literal('same'), candidate: z.int().min(0), fingerprint: z.string() }),
  /** It is none of the candidates; the duplicates are things of their own. */
  z.object({ choose: z.literal('different'), fingerprint: z.string() }),
  z.object({ choose: z.literal('later'), fingerprint: z.string() }),
  z.object({ choose: z.enum(['keep others', 'archive others', 'delete others']), fingerprint: z.string() }),
  z.object({ choose: z.literal('try again'), fingerprint: z.string() }),
  /** Somebody knows of it; nothing else is to be done here. */
  z.object({ choose: z.literal('seen'), fingerprint: z.string() }),
  /** The record was corrected in its system, from here: that is done before it is said. */
  z.object({ choose: z.literal('corrected'), fingerprint: z.string() }),
]);
export type Choice = z.output<typeof choiceSchema>;

/** Most that are handled at once. */
export const mostDecisions = 500;
const decisionName = z.object({ knot: z.string(), decision: z.string().regex(/^\d{1,18}$/) });
export type DecisionName = z.output<typeof decisionName>;
const some = z.array(decisionName).min(1).max(mostDecisions);

export const decideManySchema = z.object({
  decisions: z
    .array(decisionName.extend({ choice: choiceSchema }))
    .min(1)
    .max(mostDecisions),
});
export type DecideMany = z.output<typeof decideManySchema>;
export const undoManySchema = z.object({ decisions: some });
/** What became of several: those that were not done are still as they were. */
export const decidedManySchema = z.object({
  done: z.array(z.string()),
  not: z.array(z.object({ decision: z.string(), says: z.string() })),
});
export type DecidedMany = z.output<typeof decidedManySchema>;

/** Until when nobody is asked; null where they are to be asked now. */
export const putOffSchema = z.object({ decisions: some, until: time.nullable() });
export const giveSchema = z.object({
  decisions: some,
  /** The email of a colleague; null takes it back. */
  to: z.string().max(320).nullable(),
  note: z.string().trim().max(1000).default(''),
});
export const colleaguesSchema = z.object({ people: z.array(z.object({ email: z.string(), name: z.string() })) });
export type Colleague = z.output<typeof colleaguesSchema>['people'][number];

/** A record as it stands in its system now, with what is wrong with it. */
export const recordToCorrectSchema = z.object({
  member: z.string(),
  key: z.string(),
  /** Tells whether the record is still as it is shown here. */
  version: z.string(),
  fields: z.array(
    z.object({
      id: z.string(),
      name: z.string(),
      path: z.string(),
      raw: json.nullable(),
      /** What it means here; null where it cannot be read. */
      meaning: json.nullable(),
      /** Why it cannot be read. */
      reason: z.string().nullable(),
      /** Whether it can be changed there. */
      mayWrite: z.boolean(),
    }),
  ),
  /** Checks that it fails. */
  fails: z.array(z.string()),
  /** Why nothing can be changed from here; null where something can. */
  cannot: z.string().nullable(),
});
export type RecordToCorrect = z.output<typeof recordToCorrectSchema>;
export const correctionSchema = z.object({
  /** The version that the person saw. */
  version: z.string(),
  /** What is to stand there, by shared field, as the system writes it. */
  values: z.record(z.string(), json.nullable()),
});
export type Correction = z.output<typeof correctionSchema>;
