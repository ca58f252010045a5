import { isExactNumber, type Present, type Raw } from './raw.js';

/** Fields of a record are named by a path: object names joined by dots, as in `address.postcode`. */
export type FieldPath = string;

const segments = new Map<FieldPath, readonly string[]>();

function split(path: FieldPath): readonly string[] {
  let known = segments.get(path);
  if (!known) {
    known = path.split('.');
    segments.set(path, known);
  }
  return known;
}

function isObject(value: unknown): value is Record<string, Raw> {
  return typeof value === 'object' && value !== null && !Array.isArray(value) && !isExactNumber(value);
}

/**
 * The value at a path; `undefined` (absent) when any part of the way is missing. A name that has points in it comes
 * first.
 */
export function readPath(fields: Raw, path: FieldPath): Present {
  if (isObject(fields) && Object.hasOwn(fields, path)) return fields[path];
  let here: Present = fields;
  for (const name of split(path)) {
    if (!isObject(here) || !Object.hasOwn(here, name)) return undefined;
    here = here[name];
  }
  return here;
}

/** Objects within objects are looked into so far; what lies deeper is one value. */
const deepestWalked = 6;

/**
 * Tells of each field of a record by its path, in the record's order, down into objects; lists are values. A name that
 * cannot be told from a path (empty, or with a point in it below the top level) is left out.
 */
export function walkFields(fields: Readonly<Record<string, Raw>>, visit: (path: FieldPath, value: Raw) => void): void {
  walkBelow(fields, '', 0, visit);
}

function walkBelow(
  fields: Readonly<Record<string, Raw>>,
  prefix: string,
  depth: number,
  visit: (path: FieldPath, value: Raw) => void,
): void {
  for (const [name, value] of Object.entries(fields)) {
    if (name === '' || (prefix !== '' && name.includes('.'))) continue;
    if (isObject(value) && depth < deepestWalked) walkBelow(value, `${prefix + name}.`, depth + 1, visit);
    else visit(prefix + name, value);
  }
}

/** A new object with the value set at a path; objects on the way are made where they are missing. */
export function writePath(fields: Readonly<Record<string, Raw>>, path: FieldPath, value: Raw): Record<string, Raw> {
  return writeAt(fields, split(path), 0, value);
}

function writeAt(
  fields: Readonly<Record<string, Raw>>,
  names: readonly string[],
  at: number,
  value: Raw,
): Record<string, Raw> {
  const name = names[at] as string;
  const below = fields[name];
  const next = at === names.length - 1 ? value : writeAt(isObject(below) ? below : {}, names, at + 1, value);
  return { ...fields, [name]: next };
}
