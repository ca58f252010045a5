import type { CompiledKnot, CompiledMember, FieldId } from '@anchor-knot/core';
import type { PlanEntry } from './stored.js';

/** The members whose new records are made one after the other. */
export function membersInOrder({ members }: CompiledKnot): readonly CompiledMember[] {
  return members.filter(({ inOrderOf, may }) => inOrderOf !== undefined && may.create);
}

/** Entries of a plan in the order in which their records are to be made, where a member says that there is one. */
export function inOrder(knot: CompiledKnot, entries: readonly PlanEntry[]): readonly PlanEntry[] {
  const [member] = membersInOrder(knot);
  const field = knot.fields.find(({ id }) => id === member?.inOrderOf);
  if (!field) return entries;
  const compare = field.type === 'number' ? compareNumbers : compareTexts;
  // What has no value comes last; what has the same stays as it is.
  return entries.toSorted((one, other) => compare(valueIn(one, field.id), valueIn(other, field.id)));
}

function valueIn({ after }: PlanEntry, field: FieldId): string | undefined {
  const value = after.agreed[field]?.value;
  return typeof value === 'string' ? value : undefined;
}

type Compare = (one: string | undefined, other: string | undefined) => number;

const compareTexts: Compare = (one, other) => {
  if (one === other) return 0;
  if (one === undefined || other === undefined) return one === undefined ? 1 : -1;
  return one < other ? -1 : 1;
};

const compareNumbers: Compare = (one, other) =>
  one === undefined || other === undefined ? compareTexts(one, other) : Number(one) - Number(other);
