import { type Shared, sameShared, sharedKey } from '../record/index.js';
import type { Agreed, Giver } from './anchor.js';
import type { Edit } from './edits.js';
import type { Candidate } from './rule.js';

/** Step 3: the values of all edits, and the agreed one if any editing tie is behind; shadows drop out. */
export function candidatesOf(
  agreed: Agreed | undefined,
  edits: readonly Edit[],
  shadows: Shadows,
): readonly Candidate[] {
  const groups = new Map<string, { value: Shared; edits: Edit[] }>();
  const putForward = edits.filter((edit) => !shadows.dropsOut(edit));
  for (const edit of putForward.length > 0 || shadows.agreedCompetes ? putForward : edits) {
    const group = groups.get(sharedKey(edit.value)) ?? { value: edit.value, edits: [] };
    group.edits.push(edit);
    groups.set(sharedKey(edit.value), group);
  }
  if (agreed && shadows.agreedCompetes && !groups.has(sharedKey(agreed.value)))
    groups.set(sharedKey(agreed.value), { value: agreed.value, edits: [] });
  // Edits come in the knot's order of members, and so do the groups and their givers; the agreed value is named last.
  return [...groups.values()]
    .map(({ value, edits: alike }): Candidate => {
      const isAgreed = agreed !== undefined && sameShared(agreed.value, value);
      const before = isAgreed ? [agreed.by, ...(agreed.also ?? [])] : [];
      const editedIn = alike.map(({ from }) => from.tie.member);
      const givers = [...editedIn.map((member): Giver => ({ kind: 'member', member })), ...before];
      return {
        value,
        givers: before.length === 0 ? givers : distinct(givers),
        at: Math.max(...alike.map(({ at }) => at), ...(isAgreed ? [agreed.at] : [])),
        isAgreed,
        editedIn,
      };
    })
    .toSorted((a, b) => Number(a.isAgreed) - Number(b.isAgreed));
}

/**
 * Which edits are shadows: their raw value already means another value that is put forward, because their member is
 * narrower. The shadow of a shadow is one too; two that are shadows of each other are none.
 */
export class Shadows {
  /** Whether the value agreed before is put forward as well: an editing tie did not know it. */
  readonly agreedCompetes: boolean;
  readonly #agreed: Shared | undefined;
  readonly #edits: readonly Edit[];
  readonly #values: readonly Shared[];

  constructor(agreed: Agreed | undefined, edits: readonly Edit[]) {
    this.agreedCompetes = agreed !== undefined && edits.some(({ behind }) => behind);
    this.#agreed = this.agreedCompetes ? agreed?.value : undefined;
    this.#edits = edits;
    this.#values = [...edits.map(({ value }) => value), ...(this.#agreed === undefined ? [] : [this.#agreed])];
  }

  dropsOut(edit: Edit): boolean {
    return this.#values.some((value) => this.#shadows(edit, value) && !this.#isShadowedBack(edit, value));
  }

  /** Whether an edit stands for that value, itself or by way of others: then nothing is lost where it wins. */
  standsFor(edit: Edit, value: Shared): boolean {
    const looked = new Set<Edit>();
    const look = (from: Edit): boolean => {
      if (sameShared(from.value, value) || this.#shadows(from, value)) return true;
      looked.add(from);
      return this.#edits.some((other) => !looked.has(other) && this.#shadows(from, other.value) && look(other));
    };
    return look(edit);
  }

  #shadows({ value, from: { lens, present } }: Edit, other: Shared): boolean {
    return !sameShared(value, other) && lens.means(present, other);
  }

  /** Whether all who put that value forward show no more than a shadow of this edit's. */
  #isShadowedBack({ value }: Edit, by: Shared): boolean {
    if (this.#agreed !== undefined && sameShared(this.#agreed, by)) return false;
    return this.#edits.every((other) => !sameShared(other.value, by) || this.#shadows(other, value));
  }
}

function distinct(givers: readonly Giver[]): readonly Giver[] {
  return givers.filter((giver, place) => givers.findIndex((other) => sameGiver(giver, other)) === place);
}

export function sameGiver(a: Giver, b: Giver): boolean {
  if (a.kind === 'member') return b.kind === 'member' && a.member === b.member;
  return a.kind === 'person' ? b.kind === 'person' && a.name === b.name : a.kind === b.kind;
}
