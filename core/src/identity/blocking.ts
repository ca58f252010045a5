import type { EvidenceColumn } from './evidence.js';
import { fnv1a } from './fnv.js';

/**
 * Which pairs are compared at all (blocking; Newcombe 1967, Record linking). Records are candidates for each other when
 * they
 * share a key in one of several passes: the whole value of a field, or what two fields share but for an error. So an
 * error in one place leaves the other passes. A key that many records share tells little: beyond a limit it is passed
 * over.
 */
export interface BlockingPass {
  readonly fields: readonly number[];
  /** Whether whole values make the key, or only their hints. */
  readonly whole: boolean;
}

/**
 * A pass for each field's whole value, and one for each two fields' hints. With many fields only the first ones are
 * combined.
 */
export function blockingPasses(fields: number): BlockingPass[] {
  const single = Array.from({ length: fields }, (_, field): BlockingPass => ({ fields: [field], whole: true }));
  const combined = Math.min(fields, mostCombined);
  const pairs: BlockingPass[] = [];
  for (let first = 0; first < combined; first += 1)
    for (let second = first + 1; second < combined; second += 1) pairs.push({ fields: [first, second], whole: false });
  return [...single, ...pairs];
}

const mostCombined = 6;

/**
 * A record's keys in a pass, as 32 bits each (FNV-1a); none where a field is missing. Two keys may meet by chance: such
 * a
 * pair is compared in vain.
 */
function blockingKeys(columns: readonly EvidenceColumn[], { fields, whole }: BlockingPass, record: number): number[] {
  let keys = [fnv1a('')];
  for (const field of fields) {
    const { comparison, values } = columns[field] as EvidenceColumn;
    const value = values[record];
    if (value === undefined) return [];
    const texts = whole ? [value.form] : comparison.hints(value);
    keys = keys.flatMap((before) => texts.map((text) => hashed(before, text)));
  }
  return keys.map((key) => key >>> 0);
}

/** With an end, so that ("ab", "c") and ("a", "bc") stay apart. */
const hashed = (before: number, text: string): number => fnv1a('\u001f', fnv1a(text, before));

/** Of how blocks are made. To be raised with every change of it, so that what is kept elsewhere is made anew. */
export const blocksVersion = 3;

/**
 * A record's keys in all passes as whole numbers below 2^45, different from pass to pass: to keep them in an index
 * elsewhere.
 */
export function storedBlocks(
  columns: readonly EvidenceColumn[],
  record: number,
): { readonly block: number; readonly limit: number }[] {
  const found = new Map<number, number>();
  for (const [index, pass] of blockingPasses(columns.length).entries())
    for (const key of blockingKeys(columns, pass, record))
      found.set(index * 2 ** 32 + key, pass.whole ? mostWithValue : mostWithHints);
  return [...found].map(([block, limit]) => ({ block, limit }));
}

/** Some of the records (those of one member) by their keys: for each pass the keys in order, each with its record. */
export class BlockIndex {
  readonly passes: readonly BlockingPass[];
  readonly #columns: readonly EvidenceColumn[];
  /** Of each pass: key times 2^21 plus record, sorted. A record's place has to fit into 21 bits. */
  readonly #entries: readonly Float64Array[];
  readonly #stamps: Int32Array;
  readonly #records: number;
  #stamp = 0;
  /** Keys asked for that more records share than the limit allows. */
  passedOver = 0;

  /**
   * @param records which of the records that the columns hold are looked through
   * @throws RangeError for more records than can be told apart
   */
  constructor(columns: readonly EvidenceColumn[], records: ArrayLike<number>) {
    const all = columns[0]?.values.length ?? 0;
    if (all > mostRecords) throw new RangeError(`at most ${mostRecords} records can be looked through at once`);
    this.passes = blockingPasses(columns.length);
    this.#columns = columns;
    this.#records = records.length;
    this.#stamps = new Int32Array(all);
    this.#entries = this.passes.map((pass) => {
      let entries = new Float64Array(records.length);
      let count = 0;
      for (let at = 0; at < records.length; at += 1) {
        const record = records[at] as number;
        for (const key of blockingKeys(columns, pass, record)) {
          if (count === entries.length) entries = grown(entries);
          entries[count++] = key * mostRecords + record;
        }
      }
      return entries.slice(0, count).sort();
    });
  }

  /** The records that are candidates for a record; each once, in the order of the passes. */
  candidates(record: number, into: Int32Array): number {
    this.#stamp += 1;
    let count = 0;
    for (const [index, pass] of this.passes.entries()) {
      const entries = this.#entries[index] as Float64Array;
      for (const key of blockingKeys(this.#columns, pass, record)) {
        const begin = firstNotBelow(entries, key * mostRecords);
        const end = firstNotBelow(entries, (key + 1) * mostRecords);
        if (end - begin > (pass.whole ? mostWithValue : mostWithHints)) {
          this.passedOver += 1;
          continue;
        }
        for (let at = begin; at < end; at += 1) {
          const other = (entries[at] as number) % mostRecords;
          if (this.#stamps[other] === this.#stamp || count >= into.length) continue;
          this.#stamps[other] = this.#stamp;
          into[count++] = other;
        }
      }
    }
    return count;
  }

  /** The most candidates that one record can have. */
  get mostCandidates(): number {
    return Math.min(
      this.#records,
      this.passes.reduce((sum, { whole }) => sum + (whole ? mostWithValue : mostWithHints * mostKeys), 0),
    );
  }
}

const mostRecords = 2 ** 21;
/** A value, or hints, that more records of a member share tell too little to be worth comparing all of them. */
const mostWithValue = 200;
const mostWithHints = 16;
/** Of two fields with up to three hints each. */
const mostKeys = 9;

function grown(entries: Float64Array<ArrayBuffer>): Float64Array<ArrayBuffer> {
  const larger = new Float64Array(entries.length * 2 + 16);
  larger.set(entries);
  return larger;
}

function firstNotBelow(sorted: Float64Array, value: number): number {
  let [from, to] = [0, sorted.length];
  while (from < to) {
    const middle = (from + to) >> 1;
    if ((sorted[middle] as number) < value) from = middle + 1;
    else to = middle;
  }
  return from;
}
