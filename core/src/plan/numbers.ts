import type { CompiledKnot } from '../definition/index.js';
import type { AnchorMerge } from '../merge/index.js';
import type { FieldId } from '../record/index.js';
import type { AnchorPlan } from './operation.js';

/** What a thing comes to with some numbers. */
export interface Planned {
  readonly merge: AnchorMerge;
  readonly plan: AnchorPlan;
}

/** Numbers by the field that takes them. */
export type Numbers = ReadonlyMap<FieldId, string>;

/**
 * The fields of a thing that take a number from their series now: those that have none, and whose number some system
 * would be told of. A number is taken no sooner, so that none is spent on a thing that nobody hears of.
 * @param planned what it comes to without numbers
 * @param planWith plans it as if it had some
 * @param trial numbers as they could be; they are spent on nothing
 */
export function neededNumbers(
  knot: CompiledKnot,
  planned: Planned,
  planWith: (numbers: Numbers) => Planned,
  trial: Numbers,
): readonly FieldId[] {
  const { agreed } = planned.merge.anchor;
  const lacking = knot.fields.filter(({ id, series }) => series !== undefined && agreed[id] === undefined);
  if (lacking.length === 0) return [];
  const { operations } = planWith(trial).plan;
  const isTold = (field: FieldId): boolean =>
    operations.some(({ changes }) => changes.some((change) => change.field === field));
  return lacking.map(({ id }) => id).filter(isTold);
}
