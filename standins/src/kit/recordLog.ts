import { appendFileSync, existsSync, mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { dirname } from 'node:path';

/**
 * A table of records that survives a restart: an append-only log of JSON lines, made short when it is opened.
 * Keys keep the order in which they were first added.
 */
export class RecordLog<T extends { readonly id: string }> {
  readonly #path: string | undefined;
  readonly #records = new Map<string, T>();
  /** Ids in order; made anew when a record was added or taken away. */
  #ids: readonly string[] | undefined;

  /** @param path the log file; without one, nothing is kept */
  constructor(path?: string) {
    this.#path = path;
    if (path === undefined) return;
    mkdirSync(dirname(path), { recursive: true });
    if (existsSync(path)) {
      for (const line of readFileSync(path, 'utf8').split('\n')) {
        try {
          const record = JSON.parse(line) as T | { id: string; $removed: true };
          if ('$removed' in record) this.#records.delete(record.id);
          else this.#records.set(record.id, record);
        } catch {
          // The last line of a process that was killed while writing: its write was never answered.
        }
      }
      this.#rewrite();
    }
  }

  get size(): number {
    return this.#records.size;
  }

  get(id: string): T | undefined {
    return this.#records.get(id);
  }

  all(): T[] {
    return [...this.#records.values()];
  }

  /** Records with an id above the given one, in order of their ids. */
  *after(id = ''): Generator<T> {
    this.#ids ??= [...this.#records.keys()].sort();
    const ids = this.#ids;
    let low = 0;
    for (let high = ids.length; low < high;) {
      const middle = (low + high) >> 1;
      if ((ids[middle] as string) <= id) low = middle + 1;
      else high = middle;
    }
    for (let place = low; place < ids.length; place += 1) {
      const record = this.#records.get(ids[place] as string);
      if (record) yield record;
    }
  }

  put(record: T): void {
    if (!this.#records.has(record.id)) this.#ids = undefined;
    this.#records.set(record.id, record);
    if (this.#path !== undefined) appendFileSync(this.#path, `${JSON.stringify(record)}\n`);
  }

  remove(id: string): void {
    if (!this.#records.delete(id)) return;
    this.#ids = undefined;
    if (this.#path !== undefined) appendFileSync(this.#path, `${JSON.stringify({ id, $removed: true })}\n`);
  }

  /** Replaces everything. */
  load(records: readonly T[]): void {
    this.#ids = undefined;
    this.#records.clear();
    for (const record of records) this.#records.set(record.id, record);
    if (this.#path !== undefined) this.#rewrite();
  }

  #rewrite(): void {
    const temporary = `${this.#path as string}.writing`;
    writeFileSync(temporary, [...this.#records.values()].map((record) => `${JSON.stringify(record)}\n`).join(''));
    renameSync(temporary, this.#path as string);
  }
}
