/** A value and how often it stood there. */
export interface Counted {
  readonly value: string;
  readonly count: number;
}

/**
 * Counts how often each text comes, in bounded memory: exactly while there are at most `capacity` different ones. From
 * then on the rarest are dropped together (Misra and Gries 1982, Finding repeated elements, in the form of Agarwal et
 * al. 2012, Mergeable summaries): every text that makes up more than 2/capacity of the whole is kept, and counts are
 * lower bounds.
 */
export class FrequencyTally {
  readonly #capacity: number;
  #counts = new Map<string, number>();
  #exact = true;

  constructor(capacity: number) {
    this.#capacity = capacity;
  }

  /** Whether every text was counted. */
  get exact(): boolean {
    return this.#exact;
  }

  add(text: string): void {
    this.#counts.set(text, (this.#counts.get(text) ?? 0) + 1);
    if (this.#counts.size > this.#capacity) this.#dropRarest();
  }

  #dropRarest(): void {
    this.#exact = false;
    const pivot = [...this.#counts.values()].sort((a, b) => b - a)[this.#capacity >> 1] as number;
    this.#counts = new Map(
      [...this.#counts].flatMap(([text, count]) => (count > pivot ? [[text, count - pivot] as const] : [])),
    );
  }

  /** The commonest first; equal counts by text. */
  commonest(most: number): readonly Counted[] {
    return [...this.#counts]
      .map(([value, count]) => ({ value, count }))
      .toSorted((a, b) => b.count - a.count || (a.value < b.value ? -1 : 1))
      .slice(0, most);
  }
}

/**
 * How many different texts there are: exact up to a limit, and estimated beyond it by the k smallest of their hashes
 * (k minimum values; Bar-Yossef et al. 2002, Counting distinct elements in a data stream), to about 3 percent.
 */
export class DistinctTally {
  readonly #limit: number;
  #hashes = new Set<number>();
  /** Hashes at or above it are no longer kept. */
  #threshold = 1;

  /** @param limit how many hashes are kept */
  constructor(limit = 1024) {
    this.#limit = limit;
  }

  add(text: string): void {
    const hash = unitHash(text);
    if (hash >= this.#threshold || this.#hashes.has(hash)) return;
    this.#hashes.add(hash);
    if (this.#hashes.size < this.#limit * 2) return;
    const kept = [...this.#hashes].sort((a, b) => a - b).slice(0, this.#limit);
    this.#threshold = kept.at(-1) as number;
    kept.pop();
    this.#hashes = new Set(kept);
  }

  get exact(): boolean {
    return this.#threshold === 1;
  }

  count(): number {
    return this.exact ? this.#hashes.size : Math.round(this.#hashes.size / this.#threshold);
  }
}

/** A hash evenly spread over 0 up to 1, from two 32-bit FNV-1a hashes with a final mix (MurmurHash3's). */
export function unitHash(text: string): number {
  let low = 0x811c9dc5;
  let high = 0x9dc5811c;
  for (let index = 0; index < text.length; index += 1) {
    const unit = text.charCodeAt(index);
    low = Math.imul(low ^ unit, 0x01000193);
    high = Math.imul(high ^ (unit + index), 0x01000193);
  }
  return ((mix(high) >>> 6) * 2 ** 27 + (mix(low) >>> 5)) / 2 ** 53;
}

function mix(hash: number): number {
  let mixed = Math.imul(hash ^ (hash >>> 16), 0x85ebca6b);
  mixed = Math.imul(mixed ^ (mixed >>> 13), 0xc2b2ae35);
  return mixed ^ (mixed >>> 16);
}
