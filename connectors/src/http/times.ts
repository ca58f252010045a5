import type { Instant } from '@anchor-knot/core';
import type { HttpObject } from '@anchor-knot/contracts';

type TimeFormat = NonNullable<HttpObject['modifiedAt']>['format'];

/** A system's time as milliseconds since 1970 in UTC; `undefined` when it cannot be read. */
export function readTime(format: TimeFormat, value: unknown): Instant | undefined {
  if (typeof value !== 'string' && typeof value !== 'number') return undefined;
  const time =
    format === 'iso'
      ? Date.parse(String(value))
      : format === 'sql utc'
        ? Date.parse(`${String(value).trim().replace(' ', 'T')}Z`)
        : format === 'unix seconds'
          ? Number(value) * 1000
          : Number(value);
  return Number.isNaN(time) ? undefined : time;
}

export function writeTime(format: TimeFormat, time: Instant): string {
  const iso = new Date(time).toISOString();
  if (format === 'iso') return iso;
  if (format === 'sql utc') return iso.slice(0, 19).replace('T', ' ');
  return String(format === 'unix seconds' ? Math.floor(time / 1000) : time);
}
