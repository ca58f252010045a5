import { type FieldPath, isBlank, type Raw, walkFields } from '../record/index.js';
import { DistinctTally, formatOf, FrequencyTally, unitHash } from '../schema/index.js';
import { readValue, type ValueKind } from './valueForms.js';

/** A record that was kept, because one of its values was among those with the smallest hashes. */
export type Row = Readonly<Record<string, Raw>>;

/** What is known of one field, in bounded memory. */
export interface FieldSketch {
  readonly path: FieldPath;
  readonly filled: number;
  readonly distinct: number;
  readonly kinds: ReadonlyMap<ValueKind, number>;
  /** Characters of texts, on average. */
  readonly length: number;
  /** Forms of texts with how often each came. */
  readonly formats: ReadonlyMap<string, number>;
  /** The values with the smallest hashes, each with one record that has it. */
  readonly smallest: ReadonlyMap<number, Row>;
  /** The largest hash up to which `smallest` holds all; 1 where it is complete. */
  readonly threshold: number;
}

export interface ObjectSketch {
  readonly records: number;
  readonly fields: readonly FieldSketch[];
  /** Some of the records, evenly over the whole: at most a few hundred. */
  readonly rows: readonly Row[];
}

const keptValues = 512;
const keptFormats = 40;
const keptRows = 400;
const mostFields = 300;

/**
 * Looks at the records of an object one by one and keeps of each field the values with the smallest hashes, with a
 * record for each (bottom-k sketches; Cohen and Kaplan 2007, Summarizing data using bottom-k sketches). Two objects
 * keep
 * the same values, because the hashes are the same: so overlaps are estimated, and records with equal values are found,
 * without comparing all with all.
 */
export class ObjectSketcher {
  readonly #fields = new Map<FieldPath, FieldTally>();
  readonly #rows: Row[] = [];
  #records = 0;
  /** Every how manieth record is kept; doubled whenever there are too many. */
  #stride = 1;

  add(fields: Row): void {
    if (this.#records % this.#stride === 0) {
      this.#rows.push(fields);
      if (this.#rows.length > keptRows) this.#thin();
    }
    this.#records += 1;
    walkFields(fields, (path, value) => this.#add(path, value, fields));
  }

  #thin(): void {
    const kept = this.#rows.filter((_, index) => index % 2 === 0);
    this.#rows.length = 0;
    this.#rows.push(...kept);
    this.#stride *= 2;
  }

  sketch(): ObjectSketch {
    return {
      records: this.#records,
      fields: [...this.#fields].map(([path, tally]) => tally.sketch(path)),
      rows: this.#rows,
    };
  }

  #add(path: FieldPath, value: Raw, record: Row): void {
    let tally = this.#fields.get(path);
    if (!tally) {
      if (this.#fields.size >= mostFields) return;
      this.#fields.set(path, (tally = new FieldTally()));
    }
    if (!isBlank(value)) tally.add(value, record);
  }
}

class FieldTally {
  #filled = 0;
  #characters = 0;
  readonly #kinds = new Map<ValueKind, number>();
  readonly #formats = new FrequencyTally(keptFormats);
  readonly #distinct = new DistinctTally();
  #smallest = new Map<number, Row>();
  #threshold = 1;

  add(value: Raw, record: Row): void {
    const read = readValue(value);
    if (!read) return;
    this.#filled += 1;
    this.#characters += read.text.length;
    this.#kinds.set(read.kind, (this.#kinds.get(read.kind) ?? 0) + 1);
    this.#formats.add(formatOf(read.text));
    this.#distinct.add(read.forms[0] ?? '');
    for (const form of read.forms) {
      const hash = unitHash(form);
      if (hash < this.#threshold && !this.#smallest.has(hash)) this.#smallest.set(hash, record);
    }
    if (this.#smallest.size >= keptValues * 2) this.#keepSmallest();
  }

  #keepSmallest(): void {
    const kept = [...this.#smallest].sort(([a], [b]) => a - b).slice(0, keptValues);
    this.#threshold = (kept.pop() as [number, Row])[0];
    this.#smallest = new Map(kept);
  }

  sketch(path: FieldPath): FieldSketch {
    return {
      path,
      filled: this.#filled,
      distinct: this.#distinct.count(),
      kinds: this.#kinds,
      length: this.#filled === 0 ? 0 : this.#characters / this.#filled,
      formats: new Map(this.#formats.commonest(keptFormats).map(({ value, count }) => [value, count])),
      smallest: this.#smallest,
      threshold: this.#threshold,
    };
  }
}

/**
 * How many different values two fields share, and the share of the smaller field's that this is; estimated where
 * sketches are not complete.
 */
export function sharedValues(a: FieldSketch, b: FieldSketch): { readonly count: number; readonly share: number } {
  const threshold = Math.min(a.threshold, b.threshold);
  const below = (map: ReadonlyMap<number, Row>): number => [...map.keys()].filter((hash) => hash < threshold).length;
  const [small, large] = a.smallest.size <= b.smallest.size ? [a.smallest, b.smallest] : [b.smallest, a.smallest];
  const both = [...small.keys()].filter((hash) => hash < threshold && large.has(hash)).length;
  const fewer = Math.min(below(a.smallest), below(b.smallest));
  return { count: Math.round(both / threshold), share: fewer === 0 ? 0 : both / fewer };
}

/** Pairs of records that share a value of these two fields, one pair for each value. */
export function joinedRows(a: FieldSketch, b: FieldSketch): (readonly [Row, Row])[] {
  return [...a.smallest].flatMap(([hash, row]) => {
    const other = b.smallest.get(hash);
    return other ? [[row, other] as const] : [];
  });
}
