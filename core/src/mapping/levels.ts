import type { AnchorId } from '../record/index.js';

/**
 * Which thing of a knot stands under which, as far as it was asked. What is agreed anew is put in at once, so that the
 * things that come after are judged by it.
 */
export class Levels {
  readonly #stored = new Map<AnchorId, AnchorId>();
  readonly #agreed = new Map<AnchorId, AnchorId | undefined>();

  /** @param stored each thing, and the one above it */
  learn(stored: Iterable<readonly [AnchorId, AnchorId]>): void {
    for (const [thing, above] of stored) this.#stored.set(thing, above);
  }

  /** @param above nothing, for what stands at the top */
  put(thing: AnchorId, above: AnchorId | undefined): void {
    this.#agreed.set(thing, above);
  }

  /** Whether a thing would stand under itself, if it stood under that one. */
  isCircle(thing: AnchorId, above: AnchorId): boolean {
    const met = new Set<AnchorId>();
    for (let at: AnchorId | undefined = above; at !== undefined && !met.has(at); at = this.#above(at)) {
      if (at === thing) return true;
      met.add(at);
    }
    return false;
  }

  #above(thing: AnchorId): AnchorId | undefined {
    return this.#agreed.has(thing) ? this.#agreed.get(thing) : this.#stored.get(thing);
  }
}
