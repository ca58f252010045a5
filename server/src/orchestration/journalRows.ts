import type { JournalRow, PlanEntry } from './store.js';
import type { WriteEnd } from './writeOperations.js';

/** What a write left in the journal; only what took effect. */
export function writeRows({ intent: { operation }, state, key }: WriteEnd, at: number): JournalRow[] {
  const recordKey = key ?? (operation.kind === 'create' ? undefined : operation.key);
  if (state === 'gone')
    return [
      {
        anchor: operation.anchor,
        member: operation.member,
        key: recordKey,
        kind: 'gone',
        field: undefined,
        before: undefined,
        after: undefined,
        meaning: undefined,
        cause: undefined,
        at,
      },
    ];
  if (state !== 'written') return [];
  if (operation.kind === 'archive' || operation.kind === 'delete')
    return [
      {
        anchor: operation.anchor,
        member: operation.member,
        key: recordKey,
        kind: operation.kind,
        field: undefined,
        before: undefined,
        after: undefined,
        meaning: undefined,
        cause: operation.why,
        at,
      },
    ];
  return operation.changes.map((change): JournalRow => ({
    anchor: operation.anchor,
    member: operation.member,
    key: recordKey,
    kind: operation.kind,
    field: change.field,
    before: change.before,
    after: change.after,
    meaning: change.meaning,
    cause: change.why,
    at,
  }));
}

/** Records that came to the anchor, and edits that lost: their values are kept, with the rule that decided. */
export function mergeRows(entry: PlanEntry, at: number): JournalRow[] {
  const none = { field: undefined, before: undefined, after: undefined, meaning: undefined };
  const tied = entry.tied.map(({ member, key, why }): JournalRow => ({
    anchor: entry.anchor,
    member,
    key,
    kind: 'tied',
    ...none,
    cause: why,
    at,
  }));
  const lost = entry.lost.map((lost): JournalRow => ({
    anchor: entry.anchor,
    member: lost.member,
    key: entry.after.ties.find(({ member }) => member === lost.member)?.key,
    kind: 'lost',
    field: lost.field,
    before: undefined,
    after: undefined,
    meaning: lost.value,
    cause: lost.why,
    at,
  }));
  return [...tied, ...lost];
}
