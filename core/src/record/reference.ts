import type { AnchorId, FieldId, MemberId } from './record.js';

/** How a system says which thing of another knot it means. */
export type ReferenceBy =
  /** By the key of the record that the thing has in that member of the other knot. */
  | { readonly member: MemberId }
  /** By what the things of the other knot agree on in that shared field, which has to be a key of its own there. */
  | { readonly field: FieldId };

/** A thing that is referred to, and that cannot be told yet. */
export type Wanted = WantedThing | WantedName;

/** Nothing in the knot is known by that value. */
export interface WantedThing {
  readonly knot: string;
  readonly by: ReferenceBy;
  readonly value: string;
}

/** The thing is there, and has no record (or no value) yet by which a system could be told of it. */
export interface WantedName {
  readonly knot: string;
  readonly by: ReferenceBy;
  readonly anchor: AnchorId;
}

/** What a value that refers to something was found to mean. */
export type Found =
  | { readonly kind: 'one'; readonly anchor: AnchorId }
  | { readonly kind: 'none' | 'several' }
  /** Somebody has said that it means nothing. */
  | { readonly kind: 'nobody' }
  /** Nobody has looked, as where a definition is tried without the data of other knots. */
  | { readonly kind: 'not looked up' };

/**
 * What somebody has said once of a thing or a value that a system cannot tell, or that nothing is known by: a person
 * who has left, a team, an account that everybody uses. It holds as long as there is nothing of its own to go by.
 */
export interface Substitute {
  /** The knot whose things are referred to. */
  readonly knot: string;
  readonly by: ReferenceBy;
  /** What a system says that nothing is known by; or a thing that has no name there. */
  readonly of: { readonly value: string } | { readonly anchor: AnchorId };
  /** The thing that stands for it; `null`: a value that means nobody. */
  readonly stands: AnchorId | null;
}

/** Look-ups between knots, filled beforehand for all that is translated together: the engine asks nobody. */
export interface References {
  find(knot: string, by: ReferenceBy, value: string): Found;
  /**
   * What a thing is called there: its own name, or that of its substitute; `undefined` as long as there is no record,
   * or no value, to call it by.
   */
  nameOf(knot: string, by: ReferenceBy, anchor: AnchorId): string | undefined;
  /** Whether a thing has no name of its own there and is told as the other one. */
  isToldAs(knot: string, by: ReferenceBy, anchor: AnchorId, other: AnchorId): boolean;
  /** Whether there are things that are told as others in that way. */
  hasToldAs(knot: string, by: ReferenceBy): boolean;
  /** Whether a thing has no record left anywhere; asked only of knots with fields that are archived with things. */
  isGone(anchor: AnchorId): boolean;
  /** What became of a thing that was merged with another one; others are themselves. */
  current(anchor: AnchorId): AnchorId;
}

export const notLookedUp: References = {
  find: () => ({ kind: 'not looked up' }),
  nameOf: () => undefined,
  isToldAs: () => false,
  hasToldAs: () => false,
  isGone: () => false,
  current: (anchor) => anchor,
};

/** A stable text of a way to refer, for use as a map key. */
export function referenceKey(knot: string, by: ReferenceBy): string {
  return JSON.stringify([knot, 'member' in by ? 'member' : 'field', 'member' in by ? by.member : by.field]);
}
