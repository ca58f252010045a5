import type { Days, OnDays, QuietHours, Schedule, Timing } from '@anchor-knot/core';
import type { TimingView } from '@anchor-knot/contracts';
import { listed } from '../../../words/sentences';

export const weekdays = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'] as const;

/** When a knot runs by itself, in one sentence. */
export function timingSentence(timing: Timing, members: TimingView['members']): string {
  const name = (id: string): string => members.find((member) => member.id === id)?.systemName ?? id;
  const telling = Object.entries(timing.triggers).filter(([, { kind }]) => kind === 'events');
  const asked = Object.entries(timing.triggers).flatMap(([id, trigger]) =>
    trigger.kind === 'asking' ? [`asks ${name(id)} every ${spanWords(trigger.seconds)}`] : [],
  );
  const parts = [
    ...(telling.length > 0
      ? [
          `runs as soon as ${listed(
            telling.map(([id]) => name(id)),
            'or',
          )} tells of a change`,
        ]
      : []),
    ...asked,
    ...(timing.regular ? [`asks all members ${scheduleWords(timing.regular)}`] : []),
    ...(timing.complete ? [`lists everything ${scheduleWords(timing.complete)}`] : []),
  ];
  if (parts.length === 0) return 'Runs by hand only.';
  return `${capital(listed(parts, 'and'))}${timing.quiet ? `; not ${quietWords(timing.quiet)}` : ''}.`;
}

function quietWords({ between: [from, until], days }: QuietHours): string {
  const on = days ? ` beginning ${daysWords({ kind: 'of the week', days })}` : '';
  return `from ${from} to ${until}${on}`;
}

export function scheduleWords(schedule: Schedule): string {
  switch (schedule.kind) {
    case 'every': {
      const { every, unit, between } = schedule;
      const span = every === 1 ? unit.slice(0, -1) : `${every} ${unit}`;
      return `every ${span}${between ? ` from ${between[0]} to ${between[1]}` : ''}`;
    }
    case 'days':
      return onDaysWords(schedule);
    case 'cron':
      return `by “${schedule.expression}”`;
    default:
      return schedule satisfies never;
  }
}

function onDaysWords({ on, at }: OnDays): string {
  return `${daysWords(on)} at ${listed(at, 'and')}`;
}

function daysWords(on: Days): string {
  switch (on.kind) {
    case 'every':
      return on.days === 1 ? 'every day' : `every ${on.days} days`;
    case 'of the week':
      return on.days.length === weekdays.length
        ? 'every day'
        : `on ${listed(
            on.days.map((day) => weekdays[day - 1] ?? ''),
            'and',
          )}`;
    case 'of the month':
      return `on the ${listed(
        on.days.map((day) => (day === 'last' ? 'last day' : `${day}.`)),
        'and',
      )} of the month`;
    default:
      return on satisfies never;
  }
}

/** @param seconds a whole number */
export function spanWords(seconds: number): string {
  if (seconds % 3600 === 0) return seconds === 3600 ? 'hour' : `${seconds / 3600} hours`;
  if (seconds % 60 === 0) return seconds === 60 ? 'minute' : `${seconds / 60} minutes`;
  return `${seconds} s`;
}

function capital(words: string): string {
  return words.charAt(0).toUpperCase() + words.slice(1);
}
