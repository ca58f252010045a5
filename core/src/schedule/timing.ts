/** A day as `2026-11-23`, as it is in the zone of a timing. */
export type LocalDay = string;
/** A time of the day as `06:00`, as it is in the zone of a timing. */
export type LocalTime = string;

/** A number of minutes or hours apart, whatever the clocks are set to; or only within hours of the day. */
export interface Repeated {
  readonly kind: 'every';
  readonly every: number;
  readonly unit: 'minutes' | 'hours';
  /** From the first of these times on, up to and with the second; over midnight where it is the earlier one. */
  readonly between?: readonly [from: LocalTime, until: LocalTime] | undefined;
}

export type Days =
  | { readonly kind: 'every'; readonly days: number }
  /** 1 is Monday, 7 Sunday (ISO 8601). */
  | { readonly kind: 'of the week'; readonly days: readonly number[] }
  /** Days that a month does not have are left out in it; `last` is the last one of each. */
  | { readonly kind: 'of the month'; readonly days: readonly (number | 'last')[] };

/** On some days, at times of the day. */
export interface OnDays {
  readonly kind: 'days';
  readonly on: Days;
  readonly at: readonly LocalTime[];
}

/** Five fields, as in the crontab of POSIX, with names and steps; or six, with seconds before them. */
export interface CronExpression {
  readonly kind: 'cron';
  readonly expression: string;
}

export type Schedule = Repeated | OnDays | CronExpression;

/** What a member's changes are noticed by, beside what is done regularly. */
export type Trigger =
  /** It tells by itself; while it is not heard of, it is asked so often. */
  | { readonly kind: 'events'; readonly otherwiseSeconds: number }
  | { readonly kind: 'asking'; readonly seconds: number };

/** Hours of the day in which nothing starts by itself; what was told or due meanwhile is done when they are over. */
export interface QuietHours {
  /** Until the same time of the next day where the second is the same, over midnight where it is the earlier one. */
  readonly between: readonly [from: LocalTime, until: LocalTime];
  /** The days of the week on which they begin (1 is Monday); all, when left out. */
  readonly days?: readonly number[] | undefined;
}

/** When a knot runs by itself. */
export interface Timing {
  /** Of the IANA time zone database. */
  readonly zone: string;
  /** Nothing happens before, and nothing after. */
  readonly firstDay?: LocalDay | undefined;
  readonly lastDay?: LocalDay | undefined;
  /** When all members are asked for what changed. */
  readonly regular?: Schedule | undefined;
  /** When all members are listed as a whole, which finds deletions and what no event told of. */
  readonly complete?: OnDays | undefined;
  /** What changed may be unknown for so long; a knot of which it is for longer is late. */
  readonly lateAfterMinutes?: number | undefined;
  readonly quiet?: QuietHours | undefined;
  /** Knots whose runs it waits for, where both are to run. */
  readonly after?: readonly string[] | undefined;
  /** How much of a system's calls of the day its runs may use, in percent; the rest is left to others. */
  readonly callShare?: number | undefined;
  /**
   * Where its runs stand among those of other knots: they are begun before or after them, and one that is last leaves
   * the last calls of a day to the others. Among them when left out.
   */
  readonly rank?: 'first' | 'last' | undefined;
  /** By member. */
  readonly triggers: Readonly<Record<string, Trigger>>;
}

export const byHandOnly: Timing = { zone: 'UTC', triggers: {} };
