import type { Rule } from '../definition/index.js';
import { diff3Merge } from 'node-diff3';
import { decimalOf, failed, good, type Outcome, type Shared, WideDecimal } from '../record/index.js';

/** An edit as a combining rule sees it: what the member's value was, and what it is now. */
export interface Change {
  readonly from: Shared;
  readonly to: Shared;
}

/**
 * Takes every edit into the agreed value, in the order given. No tie-breaker: a single edit and equal edits count too.
 * @returns the combined value, or the reason why these edits cannot be combined
 */
export function combine(
  kind: NonNullable<Rule['combine']>,
  agreed: Shared,
  changes: readonly Change[],
): Outcome<Shared> {
  switch (kind) {
    case 'sum':
      return sum(agreed, changes);
    case 'union':
      return good(union(agreed, changes));
    case 'text':
      return changes.reduce<Outcome<Shared>>(
        (merged, change) => (merged.ok ? mergeText(merged.value, change) : merged),
        good(agreed),
      );
    default:
      return failed(`unknown combining rule ${String(kind satisfies never)}`);
  }
}

function sum(agreed: Shared, changes: readonly Change[]): Outcome<Shared> {
  const amount = (value: Shared) => (value === null ? new WideDecimal(0) : decimalOf(String(value)));
  let total = amount(agreed);
  for (const { from, to } of changes) {
    const before = amount(from);
    const after = amount(to);
    if (!total || !before || !after) return failed('only numbers can be added up');
    total = total.plus(after).minus(before);
  }
  return total ? good(total.toString()) : failed('only numbers can be added up');
}

/** Adds what an edit added and takes away what it took away. */
function union(agreed: Shared, changes: readonly Change[]): Shared {
  const items = (value: Shared): readonly string[] =>
    value === null ? [] : Array.isArray(value) ? (value as readonly string[]) : [String(value)];
  const result = new Set(items(agreed));
  for (const { from, to } of changes) {
    const before = new Set(items(from));
    const after = new Set(items(to));
    for (const item of before) if (!after.has(item)) result.delete(item);
    for (const item of after) if (!before.has(item)) result.add(item);
  }
  return result.size === 0 ? null : [...result].sort();
}

/** Three-way merge by lines (Khanna, Kunal and Pierce 2007, A formal investigation of diff3). */
function mergeText(ours: Shared, { from, to }: Change): Outcome<Shared> {
  const lines = (value: Shared): string[] => (value === null ? [] : String(value).split('\n'));
  const merged: string[] = [];
  for (const region of diff3Merge(lines(ours), lines(from), lines(to), { excludeFalseConflicts: true })) {
    if (!region.ok) return failed('the same lines were changed differently');
    merged.push(...region.ok);
  }
  const text = merged.join('\n').trim();
  return good(text === '' ? null : text);
}
