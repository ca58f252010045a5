import { IANAZone } from 'luxon';
import type { Instant } from './record.js';

const minute = 60_000;
const day = 86_400_000;

/**
 * When the clocks of a zone show this, whatever season it is now (RFC 5545 section 3.3.5): of an hour that comes twice
 * the first; of one that is skipped, as much later as was skipped.
 * @param wall what they show, as if it were UTC: milliseconds since 1970
 * @param zone of the IANA time zone database. @throws {RangeError} when there is none of that name
 */
export function instantOfWallTime(wall: number, zone: string): Instant {
  if (zone.toLowerCase() === 'utc') return wall;
  const clocks = IANAZone.create(zone);
  if (!clocks.isValid) throw new RangeError(`there is no time zone “${zone}”`);
  const before = wall - clocks.offset(wall - day) * minute;
  const after = wall - clocks.offset(wall + day) * minute;
  const shows = (time: number): boolean => time + clocks.offset(time) * minute === wall;
  return [before, after].filter(shows).sort((one, other) => one - other)[0] ?? before;
}
