import type { JournalRow, PlanEntry } from './stored.js';
import type { WriteEnd } from './writeOperations.js';

/** Of what is about a record as a whole. */
const noField = { field: undefined, before: undefined, after: undefined, meaning: undefined } as const;

/** What a write left in the journal; only what took effect. */
export function writeRows({ intent: { operation }, state, key }: WriteEnd, at: number): JournalRow[] {
  const recordKey = key ?? (operation.kind === 'create' ? undefined : operation.key);
  const whole = { anchor: operation.anchor, member: operation.member, key: recordKey, ...noField, at };
  if (state === 'gone') return [{ ...whole, kind: 'gone', cause: undefined }];
  if (state !== 'written') return [];
  if (operation.kind === 'archive' || operation.kind === 'delete')
    return [{ ...whole, kind: operation.kind, cause: operation.why }];
  if (operation.kind === 'write back')
    return operation.outcomes.map(({ of, told: { state: outcome, words } }): JournalRow => ({
      ...whole,
      kind: 'write back',
      cause: { kind: 'outcome', member: of, state: outcome, ...(words === undefined ? {} : { words }) },
    }));
  const { kind } = operation;
  return operation.changes.map((change): JournalRow => ({
    anchor: operation.anchor,
    member: operation.member,
    key: recordKey,
    kind,
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
  const tied = entry.tied.map(({ member, key, why }): JournalRow => ({
    anchor: entry.anchor,
    member,
    key,
    kind: 'tied',
    ...noField,
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
