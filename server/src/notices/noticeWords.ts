import { DateTime } from 'luxon';
import { emptyAt } from '../systems/callBudget.js';
import type { QuietMember } from '../persistence/tables/readHours.js';
import type { Instant } from '@anchor-knot/core';

/** A knot that is later than it may be: what is known of the member that is furthest behind. */
export interface LateKnot {
  readonly knot: string;
  readonly systemName: string;
  readonly knownAt: Instant;
}

/** A member that has not acknowledged some records in time. */
export interface UnacknowledgedMember {
  readonly knot: string;
  readonly member: string;
  readonly late: number;
  /** How long it may take. */
  readonly minutes: number;
}

const minuteMs = 60_000;
const number = (value: number): string => value.toLocaleString('en-GB');

/** @param now for how fast they are used: a day of UTC begins anew at its midnight */
export function allowanceWords(
  { name, used, perDay }: { readonly name: string; readonly used: number; readonly perDay: number },
  now: Date,
  zone: string,
): string {
  const said = `${name}: ${number(used)} of the day’s ${number(perDay)} calls are used`;
  if (used >= perDay) return `${said}; there are none left until midnight in UTC.`;
  const empty = emptyAt(used, perDay, now);
  if (empty === undefined) return `${said}; at this rate they will do for the day.`;
  return `${said}; at this rate none is left at ${DateTime.fromMillis(empty, { zone }).toFormat('HH:mm ZZZZ')}.`;
}

/** @param endsOn `YYYY-MM-DD`, of UTC */
export function accessEndsWords(name: string, endsOn: string, now: Date): string {
  const { said, hasEnded } = dayOfEnd(endsOn, now);
  return hasEnded
    ? `The access to ${name} ended on ${said}: give it a new secret, certificate or consent.`
    : `The access to ${name} ends on ${said}: its secret, certificate or consent is to be renewed by then.`;
}

/** @param endsOn `YYYY-MM-DD`, of UTC */
export function certificateEndsWords(name: string, endsOn: string, now: Date): string {
  const { said, hasEnded } = dayOfEnd(endsOn, now);
  return hasEnded
    ? `The certificate of ${name} ended on ${said}: it is not connected to until whoever runs it renews it.`
    : `The certificate of ${name} ends on ${said}: whoever runs it has to renew it by then.`;
}

/** @param endsOn `YYYY-MM-DD`, of UTC */
export function consentEndsWords(name: string, endsOn: string, now: Date): string {
  const { said, hasEnded } = dayOfEnd(endsOn, now);
  return hasEnded
    ? `The consent to ${name} ended on ${said}: nothing is read or written there until somebody gives it anew.`
    : `The consent to ${name} ends on ${said}: somebody has to give it anew by then.`;
}

function dayOfEnd(endsOn: string, now: Date): { readonly said: string; readonly hasEnded: boolean } {
  const day = DateTime.fromISO(endsOn, { zone: 'UTC' });
  return {
    said: day.setLocale('en-GB').toLocaleString(DateTime.DATE_FULL),
    hasEnded: day.endOf('day').toMillis() < now.getTime(),
  };
}

export function quietWords(systemName: string, { usual, since }: Pick<QuietMember, 'usual' | 'since'>): string {
  const hour = DateTime.fromJSDate(since, { zone: 'UTC' }).toFormat('HH:mm');
  return (
    `nothing has changed in ${systemName} since ${hour} UTC; at this hour of this day of the week there are usually ` +
    `about ${number(usual)} changes.`
  );
}

export function lateWords(knotName: string, { systemName, knownAt }: LateKnot, now: Date): string {
  const minutes = Math.floor((now.getTime() - knownAt) / minuteMs);
  return `${knotName} is late: what changed in ${systemName} is known only up to ${number(minutes)} min ago.`;
}

export function unacknowledgedWords(systemName: string, late: number, minutes: number): string {
  const records = late === 1 ? '1 record' : `${number(late)} records`;
  return `${systemName} has not acknowledged ${records} for longer than ${number(minutes)} min.`;
}
