import { decimalOf, type FieldPath, isBlank, numberText, type Raw, storable, walkFields } from '../record/index.js';
import type { SourceField, SourceSchema, SourceType } from './schema.js';
import { type Counted, DistinctTally, FrequencyTally } from './tally.js';
import { formatOf, typeOfValue } from './valueFormat.js';

/** What the records of an object hold in one field. */
export interface FieldProfile {
  readonly path: FieldPath;
  readonly type: SourceType;
  /** Values by their kind, where there is more than one. */
  readonly types: readonly { readonly type: SourceType; readonly count: number }[];
  /** Records that were sent with this field, blank or not. */
  readonly sent: number;
  /** Records in which it is not blank. */
  readonly filled: number;
  readonly distinct: number;
  /** False when `distinct` is an estimate. */
  readonly distinctIsExact: boolean;
  /** At most ten; counts are lower bounds where `commonestIsExact` is false. */
  readonly commonest: readonly Counted[];
  readonly commonestIsExact: boolean;
  /** Forms of texts, commonest first; at most six. */
  readonly formats: readonly Counted[];
  /** Of numbers and times; of texts by their order in Unicode. */
  readonly smallest: string | null;
  readonly largest: string | null;
  /** Characters of the longest value. */
  readonly longest: number;
}

export interface ObjectProfile {
  readonly records: number;
  readonly fields: readonly FieldProfile[];
  /** True when there were more fields than are profiled. */
  readonly moreFields: boolean;
}

const countedValues = 400;
const countedFormats = 60;
const shownCommonest = 10;
const shownFormats = 6;
/** A system with more fields than this uses names as data. */
export const mostFields = 600;
const longestShown = 200;

/**
 * Looks at records one by one and tells what each field holds, in one pass and in memory that does not grow with them.
 */
export class Profiler {
  readonly #fields = new Map<FieldPath, FieldTally>();
  #records = 0;
  #moreFields = false;

  add(fields: Readonly<Record<string, Raw>>): void {
    this.#records += 1;
    walkFields(fields, (path, value) => this.#add(path, value));
  }

  profile(): ObjectProfile {
    return {
      records: this.#records,
      fields: [...this.#fields].map(([path, tally]) => tally.profile(path)),
      moreFields: this.#moreFields,
    };
  }

  #add(path: FieldPath, value: Raw): void {
    let tally = this.#fields.get(path);
    if (!tally) {
      if (this.#fields.size >= mostFields) {
        this.#moreFields = true;
        return;
      }
      this.#fields.set(path, (tally = new FieldTally()));
    }
    tally.add(value);
  }
}

class FieldTally {
  #sent = 0;
  #filled = 0;
  #longest = 0;
  readonly #types = new Map<SourceType, number>();
  readonly #values = new FrequencyTally(countedValues);
  readonly #formats = new FrequencyTally(countedFormats);
  readonly #distinct = new DistinctTally();
  #smallest: string | undefined;
  #largest: string | undefined;
  #numeric = true;

  add(value: Raw): void {
    this.#sent += 1;
    const type = typeOfValue(value);
    if (type === undefined || isBlank(value)) return;
    this.#filled += 1;
    this.#types.set(type, (this.#types.get(type) ?? 0) + 1);
    const number = numberText(value);
    const text = number ?? (typeof value === 'string' ? value : JSON.stringify(value));
    this.#longest = Math.max(this.#longest, text.length);
    this.#distinct.add(text);
    const shown = text.length > longestShown ? `${text.slice(0, longestShown - 1)}…` : text;
    this.#values.add(shown);
    if (type === 'text') this.#formats.add(formatOf(text));
    this.#widen(shown, number !== undefined);
  }

  #widen(text: string, isNumber: boolean): void {
    // Numbers and texts in one field are compared as texts from the first text on.
    if (!isNumber) this.#numeric = false;
    if (this.#smallest === undefined || this.#before(text, this.#smallest)) this.#smallest = text;
    if (this.#largest === undefined || this.#before(this.#largest, text)) this.#largest = text;
  }

  #before(a: string, b: string): boolean {
    if (!this.#numeric) return a < b;
    const [x, y] = [Number(a), Number(b)];
    return x === y ? (decimalOf(a)?.lt(decimalOf(b) ?? 0) ?? false) : x < y;
  }

  profile(path: FieldPath): FieldProfile {
    const types = [...this.#types].map(([type, count]) => ({ type, count })).toSorted((a, b) => b.count - a.count);
    const clean = (counted: readonly Counted[]): Counted[] =>
      counted.map(({ value, count }) => ({ value: storable(value) as string, count }));
    return {
      path,
      type: joinTypes(types.map(({ type }) => type)),
      types: types.length > 1 ? types : [],
      sent: this.#sent,
      filled: this.#filled,
      distinct: this.#distinct.count(),
      distinctIsExact: this.#distinct.exact,
      commonest: clean(this.#values.commonest(shownCommonest)),
      commonestIsExact: this.#values.exact,
      formats: clean(this.#formats.commonest(shownFormats)),
      smallest: this.#smallest === undefined ? null : (storable(this.#smallest) as string),
      largest: this.#largest === undefined ? null : (storable(this.#largest) as string),
      longest: this.#longest,
    };
  }
}

/** One type for a field whose values are of several. Texts that sometimes look like a date are texts. */
function joinTypes(types: readonly SourceType[]): SourceType {
  const kinds = new Set(types);
  if (kinds.size === 0) return 'unknown';
  if (kinds.size === 1) return types[0] as SourceType;
  const textual = types.every((type) => type === 'text' || type === 'date' || type === 'instant');
  return textual ? (kinds.has('text') ? 'text' : 'instant') : 'mixed';
}

/**
 * The schema of an object with what its records show: for a system that does not describe itself, every field that was
 * seen; for one that does, its own words, and after them the fields that only records have.
 */
export function schemaFrom(declared: SourceSchema | undefined, profile: ObjectProfile): SourceSchema {
  const known = new Set(declared?.fields.map(({ path }) => path));
  const seen = profile.fields
    .filter(({ path }) => !known.has(path))
    .map(({ path, type }): SourceField => ({ path, type }));
  return declared ? { origin: 'declared', fields: [...declared.fields, ...seen] } : { origin: 'seen', fields: seen };
}
