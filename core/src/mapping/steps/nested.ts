import { failed, good, isBlank, isExactNumber, type Outcome, type Raw } from '../../record/index.js';
import type { Step, StepLens } from '../step.js';

const isObject = (value: Raw | undefined): value is Readonly<Record<string, Raw>> =>
  typeof value === 'object' && value !== null && !Array.isArray(value) && !isExactNumber(value);

/**
 * A value within lists and objects, as `contacts.0.email`: names and places (from 0), joined by points. The rest stays
 * as it is.
 */
export function nestedLens({ path }: Extract<Step, { kind: 'path' }>): Outcome<StepLens> {
  const names = path.split('.');
  const hasGap = names.some((name) => name === '');
  if (hasGap) return failed(`“${path}” is no path: join names and places by single points`);
  return good({
    takesBlank: true,
    usesPresent: true,
    inbound: (value: Raw) => {
      if (value !== null && !isObject(value) && !Array.isArray(value)) return failed('is neither a list nor an object');
      return good(readAt(value, names) ?? null);
    },
    outbound: (value: Raw, present?: Raw) => {
      if (isBlank(value) && (present === undefined || present === null)) return good(null);
      return writeAt(present ?? null, names, value);
    },
  });
}

function readAt(value: Raw | undefined, names: readonly string[]): Raw | undefined {
  let here: Raw | undefined = value;
  for (const name of names) {
    if (Array.isArray(here)) here = (here as readonly Raw[])[Number(name)];
    else if (isObject(here) && Object.hasOwn(here, name)) here = here[name];
    else return undefined;
  }
  return here;
}

function writeAt(there: Raw | undefined, [name, ...rest]: readonly string[], value: Raw): Outcome<Raw> {
  if (name === undefined) return good(value);
  const isPlace = /^\d+$/.test(name);
  if (Array.isArray(there) || ((there === null || there === undefined) && isPlace)) {
    const items = (there ?? []) as readonly Raw[];
    const place = isPlace ? Number(name) : -1;
    if (place < 0 || place > items.length)
      return failed(`there is a list of ${items.length} there, and no place ${name} in it`);
    const below = writeAt(items[place], rest, value);
    return below.ok ? good([...items.slice(0, place), below.value, ...items.slice(place + 1)]) : below;
  }
  if (there !== null && there !== undefined && !isObject(there))
    return failed(`there is a plain value where ${name} should be`);
  const below = writeAt(isObject(there) && Object.hasOwn(there, name) ? there[name] : undefined, rest, value);
  return below.ok ? good({ ...(isObject(there) ? there : {}), [name]: below.value }) : below;
}
