import { type Instant } from '../record/index.js';

/** Where the next number of a kind comes from. */
export interface Series {
  readonly name: string;
  /** Stands before each number. */
  readonly prefix: string;
  /** How many digits a number has at least; there is none beyond the last one of so many. */
  readonly digits: number;
  /** Numbers begin anew with each year, which stands before them. */
  readonly yearly: boolean;
  /** Where it is decided which year it is; an IANA name. */
  readonly zone: string;
}

/** Of a series without years, in the place of one. */
export const noYear = 0;

/** The year in which a number is taken; {@link noYear} where that plays no part. */
export function yearOf({ yearly, zone }: Series, now: Instant): number {
  if (!yearly) return noYear;
  return Number(new Intl.DateTimeFormat('en-GB', { year: 'numeric', timeZone: zone }).format(now));
}

/** The greatest number that there is in a year. */
export function lastNumber({ digits }: Series): number {
  return 10 ** digits - 1;
}

/** A number as systems are told of it: prefix, year and a hyphen where there is one, and digits. */
export function seriesText({ prefix, digits }: Series, year: number, number: number): string {
  const ofYear = year === noYear ? '' : `${year}-`;
  return `${prefix}${ofYear}${String(number).padStart(digits, '0')}`;
}
