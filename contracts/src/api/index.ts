import { z } from 'zod';
import { knotDraftSchema } from '../knotFile.js';

/** Everything that crosses HTTP between the web client and the server. Times are ISO 8601 in UTC. */

const json = z.json();
const time = z.iso.datetime();

export const roles = ['viewer', 'operator', 'editor', 'administrator'] as const;
export const roleSchema = z.enum(roles);
export type Role = z.output<typeof roleSchema>;

/** An error that a person can act on: a code for programs, words, and what to do. */
export const problemSchema = z.object({
  code: z.string(),
  says: z.string(),
  advice: z.string().optional(),
  problems: z.array(z.object({ at: z.string(), says: z.string() })).optional(),
});
export type Problem = z.output<typeof problemSchema>;

export const signInSchema = z.object({
  email: z.string().trim().min(1).max(320),
  password: z.string().min(1).max(1000),
});
export const personSchema = z.object({ name: z.string(), email: z.string(), role: roleSchema });
export type Person = z.output<typeof personSchema>;
export const sessionSchema = z.object({ person: personSchema, csrfToken: z.string() });
export type Session = z.output<typeof sessionSchema>;

export const pennantSchema = z.object({
  pattern: z.enum(['halves', 'quarters', 'bars', 'saltire', 'disc', 'border', 'chevron', 'chequer']),
  colour: z.enum(['petrol', 'vermilion', 'brass', 'kelp', 'ink', 'plum']),
  letters: z.string().max(2),
});
export type Pennant = z.output<typeof pennantSchema>;

/** How many records of a member are in which list; each record that was read is in exactly one. */
export const memberAccountSchema = z.object({
  tied: z.number(),
  waiting: z.number(),
  rejected: z.number(),
  aside: z.number(),
  untied: z.number(),
  filtered: z.number(),
});
export type MemberAccount = z.output<typeof memberAccountSchema>;

const memberTallySchema = z.object({
  read: z.number(),
  create: z.number(),
  update: z.number(),
  /** Runs of earlier versions did not count these. */
  archive: z.number().default(0),
  delete: z.number().default(0),
  leftAlone: z.number(),
  held: z.number(),
  rejected: z.number(),
  waiting: z.number(),
  /** In which list each of the member's records is; runs of old do not say. */
  accounts: memberAccountSchema.optional(),
  written: z.number(),
  failed: z.number(),
});
export type MemberTally = z.output<typeof memberTallySchema>;
export const progressSchema = z.object({
  phase: z.enum(['resolving', 'reading', 'matching', 'planning', 'writing', 'done']),
  done: z.number(),
  total: z.number().optional(),
  tally: z.record(z.string(), memberTallySchema),
});
export const troubleSchema = z.object({ member: z.string(), code: z.string(), words: z.string(), advice: z.string() });
export type Trouble = z.output<typeof troubleSchema>;

export const runStates = [
  'waiting',
  'running',
  'succeeded',
  'succeeded in part',
  'stopped by a guard',
  'stopped by a check',
  'stopped',
  'failed',
] as const;
export const runSchema = z.object({
  id: z.string(),
  knot: z.string(),
  knotVersion: z.number(),
  kind: z.enum(['run', 'dry run']),
  startedBy: z.string(),
  startedAt: time,
  endedAt: time.nullable(),
  state: z.enum(runStates),
  progress: progressSchema.nullable(),
  troubles: z.array(troubleSchema),
  guards: z.array(z.object({ member: z.string(), says: z.string() })),
  words: z.string().nullable(),
});
export type Run = z.output<typeof runSchema>;
export const startRunSchema = z.object({
  kind: z.enum(['run', 'dry run']),
  full: z.boolean().default(false),
  overGuards: z.boolean().default(false),
});
export const startedRunSchema = z.object({ run: z.string() });
export const runListSchema = z.object({ runs: z.array(runSchema), next: z.string().nullable() });

export const systemSummarySchema = z.object({
  id: z.string(),
  name: z.string(),
  kind: z.string(),
  address: z.string(),
  pageAddress: z.string().nullable(),
  environment: z.enum(['production', 'test copy']),
  pennant: pennantSchema,
  objects: z.array(z.string()),
  trouble: z.object({ code: z.string(), words: z.string(), advice: z.string() }).nullable(),
  checkedAt: time.nullable(),
  usedIn: z.array(z.object({ knot: z.string(), name: z.string() })),
});
export type SystemSummary = z.output<typeof systemSummarySchema>;

export const memberSummarySchema = z.object({
  id: z.string(),
  system: z.string(),
  systemName: z.string(),
  object: z.string(),
  pennant: pennantSchema,
  recordPage: z.string().nullable(),
});
export type MemberSummary = z.output<typeof memberSummarySchema>;

export const watchSchema = z.object({
  knots: z.array(
    z.object({
      id: z.string(),
      name: z.string(),
      thing: z.string(),
      anchors: z.number(),
      agree: z.number(),
      members: z.array(memberSummarySchema.extend({ ties: z.number(), waiting: z.number(), trouble: z.boolean() })),
      lastRun: runSchema.nullable(),
      openRun: runSchema.nullable(),
    }),
  ),
  systems: z.array(systemSummarySchema),
  waiting: z.array(
    z.object({ knot: z.string(), kind: z.string(), count: z.number(), example: z.string(), since: time }),
  ),
  written: z.array(z.object({ hour: time, values: z.number() })),
  lastRuns: z.array(runSchema),
});
export type Watch = z.output<typeof watchSchema>;

export const knotViewSchema = z.object({
  id: z.string(),
  name: z.string(),
  thing: z.string(),
  /** The one in force; 0 as long as none was. */
  version: z.number(),
  definition: knotDraftSchema,
  members: z.array(memberSummarySchema.extend({ ties: z.number() })),
  versions: z.array(z.object({ version: z.number(), note: z.string(), madeBy: z.string(), madeAt: time })),
  anchors: z.number(),
  agree: z.number(),
  lastRun: runSchema.nullable(),
  openRun: runSchema.nullable(),
  decisions: z.number(),
});
export type KnotView = z.output<typeof knotViewSchema>;
/** `draft`: the revision of the draft as it was seen; 0 when there was none. */
export const definitionChangeSchema = z.object({
  definition: json,
  basedOn: z.int().min(0),
  draft: z.int().min(0).default(0),
  note: z.string().max(1000).default(''),
});

export const anchorListSchema = z.object({
  anchors: z.array(
    z.object({
      id: z.string(),
      title: z.string(),
      agrees: z.boolean(),
      ties: z.array(z.object({ member: z.string(), key: z.string(), gone: z.boolean() })),
      decisions: z.number(),
      changedAt: time,
    }),
  ),
  next: z.string().nullable(),
  total: z.number(),
});
export type AnchorList = z.output<typeof anchorListSchema>;

const giver = z.union([
  z.object({ kind: z.literal('member'), member: z.string() }),
  z.object({ kind: z.literal('person'), name: z.string() }),
  z.object({ kind: z.literal('formula') }),
]);
export const journalRowSchema = z.object({
  id: z.string(),
  run: z.string().nullable(),
  member: z.string().nullable(),
  key: z.string().nullable(),
  kind: z.string(),
  field: z.string().nullable(),
  before: json.nullable(),
  after: json.nullable(),
  meaning: json.nullable(),
  cause: json.nullable(),
  at: time,
});
export type JournalEntry = z.output<typeof journalRowSchema>;
export const candidateSchema = z.object({ value: json, givers: z.array(giver), at: time, isAgreed: z.boolean() });

export const decisionSchema = z.object({
  id: z.string(),
  knot: z.string(),
  knotName: z.string(),
  kind: z.string(),
  anchor: z.string().nullable(),
  title: z.string().nullable(),
  member: z.string().nullable(),
  key: z.string().nullable(),
  field: z.string().nullable(),
  fieldName: z.string().nullable(),
  says: z.string(),
  detail: json,
  fingerprint: z.string(),
  openedAt: time,
});
export type Decision = z.output<typeof decisionSchema>;
export const decisionListSchema = z.object({
  decisions: z.array(decisionSchema),
  next: z.string().nullable(),
  total: z.number(),
  kinds: z.array(z.object({ kind: z.string(), count: z.number() })),
  members: z.record(z.string(), z.array(memberSummarySchema)),
});
export type DecisionList = z.output<typeof decisionListSchema>;

/** A record with what it is called. */
export const namedRecordSchema = z.object({
  member: z.string(),
  key: z.string(),
  title: z.string(),
  anchor: z.string().nullable(),
});
export type NamedRecord = z.output<typeof namedRecordSchema>;
/** The records that a decision on a match is about, side by side. */
export const matchRecordsSchema = z.object({
  records: z.array(
    namedRecordSchema.extend({
      /** Which candidate it belongs to; null for what is asked about. */ candidate: z.number().nullable(),
    }),
  ),
  /** By record, in their order. */
  fields: z.array(z.object({ id: z.string(), name: z.string(), values: z.array(json.nullable()) })),
  /** What each key rule says of the first two. */
  rules: z.array(z.object({ name: z.string(), says: z.enum(['the same', 'differs', 'missing']) })),
});
export type MatchRecords = z.output<typeof matchRecordsSchema>;

/** Records of one system that seem to be one thing, and those that were set aside. */
export const duplicateListSchema = z.object({
  groups: z.array(
    z.object({
      decision: z.string(),
      fingerprint: z.string(),
      member: z.string(),
      says: z.string(),
      anchor: z.string().nullable(),
      title: z.string().nullable(),
      tiedKey: z.string().nullable(),
      records: z.array(namedRecordSchema),
      openedAt: time,
    }),
  ),
  next: z.string().nullable(),
  total: z.number(),
  setAside: z.array(namedRecordSchema.extend({ person: z.string().nullable(), at: time.nullable() })),
  setAsideTotal: z.number(),
  members: z.array(memberSummarySchema),
});
export type DuplicateList = z.output<typeof duplicateListSchema>;
export const verdictListSchema = z.object({
  verdicts: z.array(
    z.object({
      id: z.string(),
      a: namedRecordSchema,
      b: namedRecordSchema,
      same: z.boolean(),
      person: z.string(),
      at: time,
    }),
  ),
  next: z.string().nullable(),
  total: z.number(),
  members: z.array(memberSummarySchema),
});
export type VerdictList = z.output<typeof verdictListSchema>;
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
]);
export type Choice = z.output<typeof choiceSchema>;

/** One member's say on one field of an anchor. */
export const cellSchema = z.object({
  state: z.enum(['agrees', 'differs', 'ahead', 'unreadable', 'rejected', 'not sent', 'no mapping']),
  raw: json.nullable(),
  meaning: json.nullable(),
  reason: z.string().nullable(),
  direction: z.enum(['from', 'to', 'both ways']).nullable(),
  path: z.string().nullable(),
});
export type Cell = z.output<typeof cellSchema>;
export const tieSchema = z.object({
  member: z.string().min(1).max(40),
  key: z.string().trim().min(1, 'give the key of the record').max(500),
});
/** Records of some members become a thing of their own; or another anchor's records come to this one. */
const regroupings = [
  z.object({
    kind: z.literal('split'),
    members: z.array(z.string().min(1).max(40)).min(1, 'choose at least one record').max(20),
  }),
  z.object({ kind: z.literal('merge'), with: z.uuid() }),
] as const;
export const regroupSchema = z.discriminatedUnion('kind', regroupings);
export type Regroup = z.output<typeof regroupSchema>;
export const forecastRequestSchema = z.discriminatedUnion('kind', [
  ...regroupings,
  tieSchema.extend({ kind: z.literal('tie') }),
]);
export type ForecastRequest = z.output<typeof forecastRequestSchema>;
/** What the next run would do with each of the anchors that there would be. */
export const forecastSchema = z.object({
  anchors: z.array(
    z.object({
      title: z.string(),
      records: z.array(z.object({ member: z.string(), key: z.string() })),
      /** No record of it may start a thing: it would be kept out. */
      keptOut: z.boolean(),
      operations: z.array(
        z.object({
          member: z.string(),
          kind: z.enum(['create', 'update', 'archive', 'delete']),
          key: z.string().nullable(),
          changes: z.array(z.object({ field: z.string(), before: json.nullable(), after: json.nullable() })),
        }),
      ),
      /** Fields that a person would have to settle. */
      held: z.array(z.string()),
    }),
  ),
});
export type Forecast = z.output<typeof forecastSchema>;
export const anchorViewSchema = z.object({
  id: z.string(),
  knot: z.string(),
  knotName: z.string(),
  thing: z.string(),
  title: z.string(),
  agrees: z.boolean(),
  members: z.array(
    memberSummarySchema.extend({
      key: z.string().nullable(),
      gone: z.boolean(),
      rejected: z.array(z.string()),
      parked: z.string().nullable(),
    }),
  ),
  fields: z.array(
    z.object({
      id: z.string(),
      name: z.string(),
      type: z.string(),
      agreed: z.object({ value: json.nullable(), by: giver, at: time, why: json }).nullable(),
      cells: z.record(z.string(), cellSchema),
    }),
  ),
  decisions: z.array(decisionSchema),
  journal: z.array(journalRowSchema),
});
export type AnchorView = z.output<typeof anchorViewSchema>;

export const operationSchema = z.object({
  id: z.string(),
  anchor: z.string(),
  title: z.string(),
  member: z.string(),
  kind: z.enum(['create', 'update', 'archive', 'delete']),
  key: z.string().nullable(),
  state: z.string(),
  words: z.string().nullable(),
  changes: z.array(
    z.object({
      field: z.string(),
      path: z.string(),
      before: json.optional(),
      after: json,
      meaning: json.nullable(),
      by: giver,
      why: json,
    }),
  ),
});
export type PlannedOperation = z.output<typeof operationSchema>;
export const operationListSchema = z.object({
  operations: z.array(operationSchema),
  next: z.string().nullable(),
  total: z.number(),
});
export type OperationList = z.output<typeof operationListSchema>;
export const runViewSchema = z.object({
  run: runSchema,
  knotName: z.string(),
  thing: z.string(),
  members: z.array(memberSummarySchema),
  fields: z.array(z.object({ id: z.string(), name: z.string() })),
});
export type RunView = z.output<typeof runViewSchema>;

/** What is sent as server-sent events. */
/** A draft was kept, or is there no more (revision 0). */
export const draftEventSchema = z.object({
  kind: z.literal('draft'),
  knot: z.string(),
  revision: z.number(),
  by: z.string(),
});
export type DraftEvent = z.output<typeof draftEventSchema>;
export const serverEventSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('run'), run: runSchema }),
  draftEventSchema,
]);
export type ServerEvent = z.output<typeof serverEventSchema>;
