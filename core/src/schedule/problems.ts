import { Cron } from 'croner';
import { IANAZone } from 'luxon';
import type { Instant } from '../record/index.js';
import { quietUntil } from './quiet.js';
import { slotsAfter } from './slots.js';
import type { Days, Schedule, Timing } from './timing.js';

/** What keeps a timing from being kept, and where: a path such as `regular.at`. */
export interface TimingProblem {
  readonly where: string;
  readonly says: string;
}

const timePattern = /^([01]\d|2[0-3]):[0-5]\d$/;
const shortestMinutes = 1;

/** @param now slots that are all over count as none */
export function problemsOfTiming(timing: Timing, now: Instant): readonly TimingProblem[] {
  const isZone = IANAZone.isValidZone(timing.zone);
  if (!isZone) return [{ where: 'zone', says: `there is no time zone “${timing.zone}”` }];
  const problems: TimingProblem[] = [];
  const { firstDay, lastDay, lateAfterMinutes } = timing;
  if (lateAfterMinutes !== undefined && !(Number.isInteger(lateAfterMinutes) && lateAfterMinutes >= shortestMinutes))
    problems.push({ where: 'lateAfterMinutes', says: 'give whole minutes from 1 on, or nothing' });
  for (const [where, day] of Object.entries({ firstDay, lastDay }))
    if (day !== undefined && !isDay(day)) problems.push({ where, says: `“${day}” is no day such as 2026-11-23` });
  if (problems.some(({ where }) => where !== 'lateAfterMinutes')) return problems;
  if (firstDay !== undefined && lastDay !== undefined && lastDay < firstDay)
    problems.push({ where: 'lastDay', says: 'the last day is before the first' });
  const own = problemsOfQuiet(timing);
  if (own.length > 0) return [...problems, ...own];
  if (timing.callShare !== undefined && !(Number.isInteger(timing.callShare) && isShare(timing.callShare)))
    problems.push({ where: 'callShare', says: 'give whole percent from 1 to 100, or nothing' });
  for (const [where, schedule] of Object.entries({ regular: timing.regular, complete: timing.complete })) {
    if (!schedule) continue;
    const own = problemsOfSchedule(schedule, where);
    problems.push(...own);
    if (own.length === 0 && problems.length === 0 && slotsAfter(schedule, timing, now).next().done === true)
      problems.push({ where, says: 'it never comes' });
  }
  return problems;
}

const isShare = (percent: number): boolean => percent >= 1 && percent <= 100;

function problemsOfQuiet({ quiet, zone }: Timing): readonly TimingProblem[] {
  if (!quiet) return [];
  const times = problemsOfTimes(quiet.between, 'quiet.between');
  if (times.length > 0) return times;
  if (quiet.days?.length === 0) return [{ where: 'quiet.days', says: 'choose a day' }];
  const isEndless = quietUntil({ quiet, zone }, 0) === Infinity;
  return isEndless ? [{ where: 'quiet.between', says: 'these hours never end: nothing would ever run' }] : [];
}

function problemsOfSchedule(schedule: Schedule, where: string): readonly TimingProblem[] {
  switch (schedule.kind) {
    case 'every': {
      const isCount = Number.isInteger(schedule.every) && schedule.every >= shortestMinutes;
      return [
        ...(isCount ? [] : [{ where: `${where}.every`, says: 'give a whole number from 1 on' }]),
        ...problemsOfTimes(schedule.between ?? [], `${where}.between`),
      ];
    }
    case 'days':
      return [
        ...problemsOfDays(schedule.on, `${where}.on`),
        ...(schedule.at.length === 0 ? [{ where: `${where}.at`, says: 'give a time of the day' }] : []),
        ...problemsOfTimes(schedule.at, `${where}.at`),
      ];
    case 'cron': {
      const says = problemOfCron(schedule.expression);
      return says === undefined ? [] : [{ where: `${where}.expression`, says }];
    }
    default:
      return schedule satisfies never;
  }
}

function problemsOfDays(on: Days, where: string): readonly TimingProblem[] {
  if (on.kind === 'every')
    return Number.isInteger(on.days) && on.days >= 1 ? [] : [{ where, says: 'give a whole number from 1 on' }];
  return on.days.length > 0 ? [] : [{ where, says: 'choose a day' }];
}

function problemsOfTimes(times: readonly string[], where: string): readonly TimingProblem[] {
  return times
    .filter((time) => !timePattern.test(time))
    .map((time) => ({ where, says: `“${time}” is no time of the day such as 06:00` }));
}

function problemOfCron(expression: string): string | undefined {
  if (expression.trim() === '') return 'give an expression of five fields, such as 0 6 * * 1-5';
  if (expression.trim().split(/\s+/).length < 5)
    return 'a cron expression has five fields: minute hour day month weekday';
  try {
    new Cron(expression);
    return undefined;
  } catch (error) {
    return `this is no cron expression: ${error instanceof Error ? error.message.replace('CronPattern: ', '') : ''}`;
  }
}

function isDay(text: string): boolean {
  const time = Date.parse(`${text}T00:00:00Z`);
  return /^\d{4}-\d{2}-\d{2}$/.test(text) && !Number.isNaN(time) && new Date(time).toISOString().startsWith(text);
}
