import { DateTime, IANAZone } from 'luxon';
import { failed, good, instantOfWallTime } from '../../record/index.js';
import { type Step, type StepLens, textOf } from '../step.js';

/** Dates by format (luxon tokens); the shared value is ISO 8601: a calendar date, or an instant in UTC. */
export function dateLens(step: Extract<Step, { kind: 'date' }>): StepLens {
  const zone = step.zone ?? 'utc';
  const toShared = (date: DateTime): string =>
    step.to === 'date' ? (date.toISODate() ?? '') : (date.toUTC().toISO() ?? '');
  const toMember = (shared: string): DateTime =>
    step.to === 'date' ? DateTime.fromISO(shared, { zone }) : DateTime.fromISO(shared, { zone: 'utc' }).setZone(zone);
  return {
    usesHeld: true,
    setsRawForm: true,
    inbound: (value, held) => {
      const text = textOf(value)?.trim() ?? '';
      // A format without seconds shows less than is agreed: what it shows still means the whole.
      if (typeof held === 'string' && toMember(held).toFormat(step.format) === text) return good(held);
      const date = readIn(zone, step.format, text);
      return date.isValid ? good(toShared(date)) : failed(`“${text}” is not a date written as ${step.format}`);
    },
    outbound: (value) => {
      const date = toMember(String(value));
      return date.isValid ? good(date.toFormat(step.format)) : failed(`“${String(value)}” is not a date`);
    },
  };
}

/** A text that names its own zone means that one; any other is what the clocks of `zone` showed. */
function readIn(zone: string, format: string, text: string): DateTime {
  const namesZone = /[zZ]/.test(format.replaceAll(/'[^']*'/g, ''));
  if (namesZone || !IANAZone.isValidZone(zone)) return DateTime.fromFormat(text, format, { zone });
  const wall = DateTime.fromFormat(text, format, { zone: 'utc' });
  return wall.isValid ? DateTime.fromMillis(instantOfWallTime(wall.toMillis(), zone), { zone }) : wall;
}
