import { z } from 'zod';
import { type DecisionKind, decisionKindNames } from './decisionKinds.js';
import { time } from './json.js';
import { noticeTopicNames } from './noticeTopics.js';

export const noticeTopicSchema = z.enum(noticeTopicNames);

/** Decisions that notices tell of. Of a guard and of a system in trouble there are notices of their own. */
const withTopicsOfTheirOwn: readonly DecisionKind[] = ['guard', 'trouble', 'unusually quiet'];
export const toldDecisionKinds = decisionKindNames.filter((kind) => !withTopicsOfTheirOwn.includes(kind)) as [
  DecisionKind,
  ...DecisionKind[],
];

/** Something that needs, or needed, somebody. It is one notice for as long as it lasts. */
export const noticeSchema = z.object({
  id: z.string(),
  topic: noticeTopicSchema,
  /** The knot or the system that it is about. */
  about: z.string(),
  words: z.string(),
  /** Where in this installation one can see to it. */
  path: z.string(),
  beganAt: time,
  latestAt: time,
  /** How often it has happened since it began. */
  times: z.number(),
  /** When it came to its end; null while it lasts, and for what just happened. */
  overAt: time.nullable(),
  isUnread: z.boolean(),
});
export type Notice = z.output<typeof noticeSchema>;
export const noticeListSchema = z.object({
  notices: z.array(noticeSchema),
  next: z.string().nullable(),
  unread: z.number(),
});
export type NoticeList = z.output<typeof noticeListSchema>;
export const unreadSchema = z.object({ unread: z.number() });
/** The latest notice that the person has seen. */
export const readNoticesSchema = z.object({ through: z.string().regex(/^\d{1,18}$/) });

export const mostRecipients = 50;
/** An address for mail, as HTML's own form fields take it. */
const email = z.email().max(320);
export const recipientSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('mail'), address: email }),
  /** A program, told by HTTP as the Standard Webhooks specification says. */
  z.object({ kind: z.literal('webhook'), address: z.url({ protocol: /^https?$/ }).max(2000) }),
]);
export type Recipient = z.output<typeof recipientSchema>;

const clockTime = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'must be a time such as 07:30');
export const rhythmSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('at once') }),
  z.object({ kind: z.literal('hourly') }),
  z.object({ kind: z.literal('daily'), at: clockTime }),
]);
export type Rhythm = z.output<typeof rhythmSchema>;

function isZone(zone: string): boolean {
  try {
    return new Intl.DateTimeFormat('en', { timeZone: zone }).resolvedOptions().timeZone !== '';
  } catch {
    return false;
  }
}

/** Who is told of what, and how. */
export const noticeRuleSchema = z.object({
  name: z.string().trim().min(1).max(100),
  isOn: z.boolean(),
  topics: z.array(noticeTopicSchema).min(1, 'must name something to tell of'),
  /** Decisions of these kinds alone; of all kinds where none is named. */
  decisionKinds: z.array(z.enum(toldDecisionKinds)),
  /** So long a decision may wait before that is told. */
  waitsHours: z.int().min(1).max(8760),
  /** So much of a day's calls may be used before that is told. */
  usedPercent: z.int().min(1).max(100),
  /** Null tells of all knots, also of those to come. Systems are told of whatever knots are chosen. */
  knots: z.array(z.string()).min(1, 'must name a knot, or all').nullable(),
  recipients: z.array(recipientSchema).min(1, 'must name somebody to tell').max(mostRecipients),
  rhythm: rhythmSchema,
  /** IANA, for the time of the day and for the times that are told. */
  zone: z.string().max(60).refine(isZone, 'must be a time zone such as Europe/London'),
  /** Told again each time that it happens while it lasts, not once. */
  isRepeated: z.boolean(),
  /** Whether the end of it is told as well. */
  tellsEnd: z.boolean(),
  /** What would be more is gathered until it may be sent. */
  mostPerHour: z.int().min(1).max(1000),
});
export type NoticeRule = z.output<typeof noticeRuleSchema>;
export const keptNoticeRuleSchema = z.object({
  id: z.string(),
  rule: noticeRuleSchema,
  revision: z.number(),
  changedBy: z.string(),
  changedAt: time,
  /** When what was gathered is sent; null where it is told at once. */
  dueAt: time.nullable(),
});
export type KeptNoticeRule = z.output<typeof keptNoticeRuleSchema>;
export const noticeRulesSchema = z.object({
  rules: z.array(keptNoticeRuleSchema),
  /** Why no mail can be sent; null where it can. */
  noMail: z.string().nullable(),
});
export type NoticeRules = z.output<typeof noticeRulesSchema>;
/** `revision`: of the rule as it was seen; 0 for a new one. */
export const keepNoticeRuleSchema = z.object({ rule: noticeRuleSchema, revision: z.int().min(0) });
export const keptRuleSchema = z.object({
  revision: z.number(),
  /** With what messages to programs are signed; shown when it is made, and never again. */
  secret: z.string().nullable(),
});

export const messageStates = ['waiting', 'sent', 'refused', 'given up'] as const;
export const messageSchema = z.object({
  id: z.string(),
  ruleName: z.string(),
  recipient: z.object({ kind: z.enum(['mail', 'webhook']), address: z.string() }),
  subject: z.string(),
  text: z.string(),
  state: z.enum(messageStates),
  attempts: z.number(),
  /** When it is tried next; null when it is not. */
  nextAt: time.nullable(),
  /** What went wrong the last time. */
  trouble: z.string().nullable(),
  createdAt: time,
  sentAt: time.nullable(),
});
export type Message = z.output<typeof messageSchema>;
export const messageListSchema = z.object({ messages: z.array(messageSchema), next: z.string().nullable() });
export type MessageList = z.output<typeof messageListSchema>;
