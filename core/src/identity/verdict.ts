import type { MemberId, RecordKey } from '../record/index.js';

/** A record by its member and its key there. */
export interface RecordName {
  readonly member: MemberId;
  readonly key: RecordKey;
}

/** A person's word on two records. It outranks every rule and all evidence until it is taken back. */
export interface Verdict {
  readonly a: RecordName;
  readonly b: RecordName;
  readonly same: boolean;
}

export const recordId = ({ member, key }: RecordName): string => `${member}\u001f${key}`;

/** Verdicts, asked by record. */
export class Verdicts {
  readonly #same = new Map<string, Map<string, RecordName>>();
  readonly #different = new Map<string, Map<string, RecordName>>();

  constructor(verdicts: readonly Verdict[]) {
    for (const { a, b, same } of verdicts) {
      const kept = same ? this.#same : this.#different;
      for (const [record, other] of [
        [a, b],
        [b, a],
      ] as const) {
        const id = recordId(record);
        kept.set(id, (kept.get(id) ?? new Map<string, RecordName>()).set(recordId(other), other));
      }
    }
  }

  same(record: RecordName): readonly RecordName[] {
    return [...(this.#same.get(recordId(record))?.values() ?? [])];
  }
  different(record: RecordName): readonly RecordName[] {
    return [...(this.#different.get(recordId(record))?.values() ?? [])];
  }
  areDifferent(a: RecordName, b: RecordName): boolean {
    return this.#different.get(recordId(a))?.has(recordId(b)) ?? false;
  }
}
