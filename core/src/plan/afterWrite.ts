import type { CompiledKnot } from '../definition/index.js';
import type { Anchor, Tie, TieEnd } from '../merge/index.js';
import {
  type FieldId,
  type Raw,
  type RecordKey,
  rawEqual,
  type Shared,
  showRaw,
  type SourceRecord,
} from '../record/index.js';
import type { Operation, RemoveOperation, UpdateOperation } from './operation.js';

/** How a write ended, as the engine needs to know it. */
export type WriteResult =
  /** `record` is what the system then holds, when it said so or was asked and its version is the one our write made. */
  | { readonly kind: 'written'; readonly key: RecordKey; readonly record: SourceRecord | undefined }
  /** The system will not take it: it is not tried again until something changes. */
  | { readonly kind: 'refused'; readonly words: string }
  | { readonly kind: 'gone' }
  /** Not done: tried again in the next run. */
  | { readonly kind: 'not done' };

/**
 * The anchor after a write: step 8 of the merge. Seen becomes what the system then holds; after a write that did not
 * succeed it stays at the value that the merge read.
 * @param anchor as it is now: people may have changed it since the merge that planned the write
 */
export function afterWrite(knot: CompiledKnot, anchor: Anchor, operation: Operation, result: WriteResult): Anchor {
  switch (result.kind) {
    case 'written':
      if (operation.kind === 'create') return afterCreate(knot, anchor, operation, result);
      return withTie(anchor, operation, (tie) =>
        operation.kind === 'update'
          ? holding(knot, tie, operation, result.record)
          : removed(tie, operation, result.record),
      );
    case 'refused': {
      const parked = { fingerprint: operation.fingerprint, words: result.words };
      if (operation.kind !== 'create') return withTie(anchor, operation, (tie) => ({ ...tie, parked }));
      return { ...anchor, parkedCreates: { ...anchor.parkedCreates, [operation.member]: parked } };
    }
    case 'gone':
      if (operation.kind === 'create') return anchor;
      return withTie(anchor, operation, (tie) => ({ ...tie, gone: true, end: endOfGone(knot, operation) }));
    case 'not done':
      return anchor;
    default:
      throw new Error(`unknown result ${JSON.stringify(result satisfies never)}`);
  }
}

/**
 * Gone already is as good as removed by us. Gone under an update, it was deleted while somebody edited elsewhere: what
 * follows is for a person to say, where anything would follow.
 */
function endOfGone(knot: CompiledKnot, { kind, member }: UpdateOperation | RemoveOperation): TieEnd {
  if (kind !== 'update') return 'deleted';
  return (knot.member(member).whenDeleted ?? 'nothing') === 'nothing' ? 'keep others' : 'ask';
}

/**
 * The tie of a record that we put away or deleted: it neither gives nor receives any more, and nothing follows from it.
 */
function removed(tie: Tie, { kind }: RemoveOperation, record: SourceRecord | undefined): Tie {
  const { parked: _, ...rest } = tie;
  return {
    ...rest,
    gone: true,
    end: kind === 'archive' ? 'archived' : 'deleted',
    version: record ? record.version : tie.version,
  };
}

function afterCreate(
  knot: CompiledKnot,
  anchor: Anchor,
  operation: Operation,
  result: Extract<WriteResult, { kind: 'written' }>,
): Anchor {
  // Somebody tied another record there meanwhile: the new one is found as a duplicate when it is read.
  if (anchor.ties.some(({ member }) => member === operation.member)) return anchor;
  const { [operation.member]: _, ...parkedCreates } = anchor.parkedCreates;
  const tie: Tie = { member: operation.member, key: result.key, seen: {}, ahead: {}, left: {} };
  return { ...anchor, parkedCreates, ties: [...anchor.ties, holding(knot, tie, operation, result.record)] };
}

/**
 * Only the fields that were written are taken from the answer: another field that differs there is somebody's edit,
 * made since we read, and must be found as one. Where the system changed what it was given, the write is parked,
 * or it would be repeated for ever.
 */
function holding(knot: CompiledKnot, tie: Tie, operation: Operation, record: SourceRecord | undefined): Tie {
  const { parked: _, ...rest } = tie;
  const holds = record ? knot.rawFields(tie.member, record) : {};
  const seen: Record<FieldId, Raw> = { ...tie.seen };
  const altered: [path: string, before: Raw, after: Raw][] = [];
  for (const { field, path, after, meaning } of operation.changes) {
    // An answer that says *empty* is an answer.
    const held = Object.hasOwn(holds, field) ? (holds[field] as Raw) : after;
    seen[field] = held;
    // Other fields that read the same place see our own write there, and not an edit.
    for (const other of knot.fields)
      if (other.id !== field && other.mappings.get(tie.member)?.field === path)
        seen[other.id] = Object.hasOwn(holds, other.id) ? (holds[other.id] as Raw) : after;
    if (!meaningOf(knot, tie.member, field, held, meaning)) altered.push([path, held, after]);
  }
  // What a new record was given by its system, defaults for instance, was not edited by anybody.
  if (operation.kind === 'create')
    for (const [field, raw] of Object.entries(holds)) if (!Object.hasOwn(seen, field)) seen[field] = raw;
  const parked =
    altered.length === 0 ? {} : { parked: { fingerprint: JSON.stringify(altered), words: alteredWords(altered) } };
  return { ...rest, ...parked, version: record ? record.version : tie.version, seen };
}

function alteredWords(altered: readonly [path: string, before: Raw, after: Raw][]): string {
  return altered
    .map(
      ([path, held, after]) => `${path} was written as ${showRaw(after, 60)} and is kept there as ${showRaw(held, 60)}`,
    )
    .join('; ');
}

function meaningOf(knot: CompiledKnot, member: string, field: FieldId, raw: Raw, meaning: Shared): boolean {
  return (
    knot.fields
      .find(({ id }) => id === field)
      ?.mappings.get(member)
      ?.lens.means(raw, meaning) ?? true
  );
}

/**
 * The tie of the record that was written; it may be tied elsewhere by now, and then nothing is to be said of it here.
 */
function withTie(anchor: Anchor, { member, key }: WrittenRecord, change: (tie: Tie) => Tie): Anchor {
  return { ...anchor, ties: anchor.ties.map((tie) => (tie.member === member && tie.key === key ? change(tie) : tie)) };
}

type WrittenRecord = Pick<UpdateOperation | RemoveOperation, 'member' | 'key'>;

/** Whether a record holds everything that an operation was to write there: how an interrupted write is judged. */
export function holdsWrite(knot: CompiledKnot, operation: Operation, record: SourceRecord): boolean {
  const raws = knot.rawFields(operation.member, record);
  return operation.changes.every(({ field, after, meaning }) => {
    const raw = raws[field];
    return raw !== undefined && (rawEqual(raw, after) || meaningOf(knot, operation.member, field, raw, meaning));
  });
}
