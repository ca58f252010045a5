import { DateTime } from 'luxon';
import { type Instant, instantOfWallTime } from '@anchor-knot/core';
import type { HttpObject } from '@anchor-knot/contracts';

type TimeFormat = NonNullable<HttpObject['modifiedAt']>['format'];

/**
 * A time as text (ISO 8601, or with a blank between date and time), in milliseconds since 1970 in UTC.
 * @param zone of a text that names none: an IANA zone. An hour that daylight saving repeats is the first of the two;
 *   one that it skips is as much later
 * @returns `undefined` when it cannot be read
 */
export function readTextTime(text: string, zone = 'UTC'): Instant | undefined {
  const iso = text.trim().replace(' ', 'T');
  const time = plainTime(iso) ?? DateTime.fromISO(iso, { zone: 'UTC' }).toMillis();
  const namesZone = /T.*(?:Z|[+-]\d\d(?::?\d\d)?)$/i.test(iso);
  if (!Number.isNaN(time)) return namesZone ? time : instantOfWallTime(time, zone);
  // Other forms (RFC 9110 section 5.6.7) name their zone themselves; what does not would be read in this machine's.
  const other = /(?:GMT|UTC|[+-]\d{4})$/i.test(text.trim()) ? Date.parse(text) : Number.NaN;
  return Number.isNaN(other) ? undefined : other;
}

/**
 * Nearly all times are written in this form, which the language reads much quicker than a library of all forms; of days
 * that not all months have, it would make days of the next one.
 */
function plainTime(iso: string): Instant | undefined {
  const [, time, utc] = /^(\d{4}-\d\d-(?:0[1-9]|1\d|2[0-8])T\d\d:\d\d:\d\d(?:\.\d{1,3})?)(Z?)$/.exec(iso) ?? [];
  const plain = time === undefined ? Number.NaN : Date.parse(`${time}${utc || 'Z'}`);
  return Number.isNaN(plain) ? undefined : plain;
}

/** The time on the wall of a zone, as `2026-11-23 10:00:00`. */
export function writeLocalTime(time: Instant, zone = 'UTC'): string {
  return DateTime.fromMillis(time, { zone }).toFormat('yyyy-MM-dd HH:mm:ss');
}

/**
 * A system's time in milliseconds since 1970 in UTC; `undefined` when it cannot be read.
 * @param zone of times that name none
 */
export function readTime(format: TimeFormat, value: unknown, zone?: string): Instant | undefined {
  if (typeof value !== 'string' && typeof value !== 'number') return undefined;
  switch (format) {
    case 'iso':
    case 'sql local':
      return readTextTime(String(value), zone);
    case 'sql utc':
      return readTextTime(String(value));
    case 'unix seconds':
    case 'unix milliseconds': {
      const time = Number(value) * (format === 'unix seconds' ? 1000 : 1);
      return String(value).trim() === '' || Number.isNaN(time) ? undefined : time;
    }
    default:
      return format satisfies never;
  }
}

/** The same time in the system's words. @param zone of times that name none */
export function writeTime(format: TimeFormat, time: Instant, zone?: string): string {
  switch (format) {
    case 'iso':
      return new Date(time).toISOString();
    case 'sql utc':
      return writeLocalTime(time);
    case 'sql local':
      return writeLocalTime(time, zone);
    case 'unix seconds':
      return String(Math.floor(time / 1000));
    case 'unix milliseconds':
      return String(time);
    default:
      return format satisfies never;
  }
}
