import type { Raw } from '@anchor-knot/core';
import { isExactNumber } from '@anchor-knot/core';
import { parseExactJson, stringifyExactJson } from '../json/exactJson.js';

/** PostgreSQL's own type numbers (src/include/catalog/pg_type.dat). */
const typeIds = {
  bool: 16,
  int8: 20,
  int2: 21,
  int4: 23,
  json: 114,
  float4: 700,
  float8: 701,
  date: 1082,
  timestamp: 1114,
  timestamptz: 1184,
  numeric: 1700,
  jsonb: 3802,
} as const;

/** A date and a time on the wall: `timestamp without time zone`. */
export const timestampTypeId = typeIds.timestamp;

/**
 * How values come out of the database: numbers as the database wrote them, dates and times as ISO 8601 text (the
 * session's zone is UTC), JSON as JSON, arrays as lists, all else as text.
 */
export function valueParser(typeId: number, isArray: (typeId: number) => boolean): (text: string) => Raw {
  switch (typeId) {
    case typeIds.bool:
      return (text) => text === 't';
    case typeIds.int2:
    case typeIds.int4:
    case typeIds.int8:
    case typeIds.float4:
    case typeIds.float8:
    case typeIds.numeric:
      return exactNumber;
    case typeIds.timestamp:
    case typeIds.timestamptz:
      return isoTime;
    case typeIds.json:
    case typeIds.jsonb:
      return parseExactJson;
    default:
      return isArray(typeId) ? arrayItems : (text) => text;
  }
}

function exactNumber(text: string): Raw {
  const plain = Number(text);
  return String(plain) === text ? plain : Number.isNaN(plain) ? text : { $number: text };
}

/**
 * `2026-11-23 10:00:00+00` and `2026-11-23 10:00:00` (in UTC) to `2026-11-23T10:00:00Z`. `infinity` and years before
 * Christ stay as they are.
 */
function isoTime(text: string): Raw {
  const parts = /^(\d{4}-\d\d-\d\d) (\d\d:\d\d:\d\d(?:\.\d+)?)(?:\+00)?$/.exec(text);
  return parts ? `${parts[1] ?? ''}T${parts[2] ?? ''}Z` : text;
}

/** The items of a one-dimensional array in PostgreSQL's notation (manual, section 8.15.6). */
function arrayItems(text: string): Raw {
  const items: Raw[] = [];
  const pattern = /"((?:[^"\\]|\\.)*)"|([^,{}"]+)/g;
  for (const [, quoted, plain] of text.matchAll(pattern)) {
    if (quoted !== undefined) items.push(quoted.replaceAll(/\\(.)/gs, '$1'));
    else items.push(plain === 'NULL' ? null : (plain ?? ''));
  }
  return items;
}

/** A value as a parameter: the database reads it by the type of the column it is compared with or written to. */
export function toParameter(value: Raw): string | null | readonly Raw[] {
  if (value === null) return null;
  if (isExactNumber(value)) return value.$number;
  if (Array.isArray(value)) return value as readonly Raw[];
  return typeof value === 'object' ? stringifyExactJson(value) : String(value);
}

/** A name as SQL writes it, whatever characters it has. */
export function quoted(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** A query as something to select from. A line comment at its end must not swallow what follows. */
export function querySource(sql: string): string {
  return `(${sql.trim().replace(/;\s*$/, '')}\n) as source`;
}
