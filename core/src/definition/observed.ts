import { type FieldId, type FieldPath, type MemberId, type Raw, readPath, storable } from '../record/index.js';
import type { Member, OutcomeFields } from './knot.js';

/**
 * Places of a record that are read beside its shared fields, under names that no shared field can have. They are part
 * of what a tie has seen, so that a change there is noticed; nothing of them is shared, and nothing of them is an edit.
 */

/** Under what the state is read that a member's outcome was told in. */
export const outcomeStateId = (of: MemberId): FieldId => `@outcome/${of}`;
/** Under what is read whether the system has acknowledged. */
export const acknowledgedId: FieldId = '@acknowledged';

type Observing = Pick<Member, 'outcomes' | 'acknowledges'>;

export function observedPaths({ outcomes = [], acknowledges }: Observing): readonly (readonly [FieldId, FieldPath])[] {
  return [
    ...outcomes.flatMap(({ of, state }) => (state ? [[outcomeStateId(of), state.field] as const] : [])),
    ...(acknowledges ? [[acknowledgedId, acknowledges.field] as const] : []),
  ];
}

/** What a record holds in these places. Here it is all one whether a system sends nothing or says that it is empty. */
export function readObserved(
  paths: readonly (readonly [FieldId, FieldPath])[],
  fields: Readonly<Record<string, Raw>>,
): Record<FieldId, Raw> {
  const raws: Record<FieldId, Raw> = {};
  for (const [id, path] of paths) {
    raws[id] = storable(readPath(fields, path) ?? null);
  }
  return raws;
}

/** The fields that an outcome is told in, each with what it is called in words. */
export function outcomePaths(outcome: OutcomeFields): readonly (readonly [part: string, path: FieldPath])[] {
  const { state, words, time, key, link } = outcome;
  const parts: readonly (readonly [string, FieldPath | undefined])[] = [
    ['state', state?.field],
    ['words', words],
    ['time', time],
    ['key', key],
    ['link', link],
  ];
  return parts.flatMap(([part, path]) => (path === undefined ? [] : [[part, path] as const]));
}
