import { Pipe, type PipeTransform } from '@angular/core';

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** The exact time in the reader's zone, with the zone. */
export function exactTime(iso: string): string {
  const format = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'medium' });
  return `${format.format(new Date(iso))} ${zone}`;
}

/** How long ago, or in what time, in words; days and more as a date. */
export function ago(iso: string, now = Date.now()): string {
  const seconds = Math.round((now - Date.parse(iso)) / 1000);
  if (seconds <= -10 && seconds > -86_400) return `in ${spanOf(-seconds)}`;
  if (seconds <= -86_400) return dayOf(iso, now);
  if (seconds < 10) return 'just now';
  return seconds < 86_400 ? `${spanOf(seconds)} ago` : dayOf(iso, now);
}

function spanOf(seconds: number): string {
  if (seconds < 60) return `${seconds} s`;
  return seconds < 3600 ? `${Math.floor(seconds / 60)} min` : `${Math.floor(seconds / 3600)} h`;
}

function dayOf(iso: string, now: number): string {
  const isFar = Math.abs(now - Date.parse(iso)) > 300 * 86_400_000;
  return new Intl.DateTimeFormat('en-GB', {
    day: 'numeric',
    month: 'short',
    year: isFar ? 'numeric' : undefined,
  }).format(new Date(iso));
}

@Pipe({ name: 'ago' })
export class AgoPipe implements PipeTransform {
  transform(iso: string): string {
    return ago(iso);
  }
}

@Pipe({ name: 'exactTime' })
export class ExactTimePipe implements PipeTransform {
  transform(iso: string): string {
    return exactTime(iso);
  }
}
