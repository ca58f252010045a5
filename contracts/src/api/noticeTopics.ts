interface TopicOfNotices {
  /** Stands after *tells of*, for people. */
  readonly words: string;
  /** What a notice of it is about. */
  readonly about: 'knot' | 'system';
  /** Whether there is an end to it that can be told; other things just happened. */
  readonly lasts: boolean;
}

/** Everything that people and programs can be told of, in the order in which it is shown: what stops most first. */
export const noticeTopics = {
  'run failed': { words: 'runs that fail', about: 'knot', lasts: true },
  'run stopped': { words: 'runs that a guard or a check stops', about: 'knot', lasts: true },
  'run missed': { words: 'runs that did not happen', about: 'knot', lasts: false },
  'run in part': { words: 'runs in which something new went wrong', about: 'knot', lasts: false },
  late: { words: 'knots that are later than they may be', about: 'knot', lasts: true },
  'not acknowledged': { words: 'records that a system does not acknowledge in time', about: 'knot', lasts: true },
  'unusually quiet': { words: 'systems in which nothing changes while much usually does', about: 'knot', lasts: true },
  'system in trouble': { words: 'systems that do not answer as they should', about: 'system', lasts: true },
  'subscription lost': { words: 'subscriptions that were lost', about: 'system', lasts: true },
  allowance: { words: 'systems whose calls of the day run short', about: 'system', lasts: true },
  'access ends': { words: 'consents, certificates and secrets that end soon', about: 'system', lasts: true },
  decision: { words: 'decisions that wait for a person', about: 'knot', lasts: true },
  'waits long': { words: 'decisions that have waited for long', about: 'knot', lasts: true },
} as const satisfies Record<string, TopicOfNotices>;

export type NoticeTopic = keyof typeof noticeTopics;
export const noticeTopicNames = Object.keys(noticeTopics) as [NoticeTopic, ...NoticeTopic[]];
